"""Messages: the library, the letter editor, and reading it as real people."""

from collections.abc import Sequence
from dataclasses import dataclass
from secrets import token_hex
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.datastructures import FormData, UploadFile

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import DARK, FilledEmail
from loyalbell.core.messages.merge_fields import FIELDS, LINKS, SHOP, FieldProblem
from loyalbell.core.messages.preflight import Finding
from loyalbell.services import unsaved
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import field_coverage, gallery, message_templates, preflight, preview, proofs
from loyalbell.services.messages import files as message_files
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.results.of_messages import NOTHING, Did, last_year
from loyalbell.services.settings.channels import ProofReader, ProofSettings, loaded
from loyalbell.storage.schema import Message, UnsavedDraft, User
from loyalbell.web.json_text import read_object
from loyalbell.web.messages.drafts import Writing, drafts_of
from loyalbell.web.messages.rich_text import OFFER_PARTS, plain
from loyalbell.web.messages.views import (
    content_from,
    editor_choices_of,
    rail_values,
    say_language,
    sheet_values,
    with_plain_twins,
    writing_from,
)
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


def _message(context: RequestContext, message_id: int) -> Message:
    message = context.application.find(Message, message_id)
    if message is None or message.hidden:
        raise NotFound("No such message is on file.")
    return message


@router.get("/messages")
def list_page(context: RequestContext = SignedIn, q: str = "") -> Response:
    sought = q.strip()[:100]
    uses = message_queries.uses_by_message(context.application)
    did = last_year(context.application)
    cards, findings = [], preflight.findings_of_library(context.application)
    for message in message_queries.library(context.application):
        content = message_queries.content_of(context.application, message.id)
        if sought and not _holds(message, content, sought):
            continue
        first = content.find("email") or (content.writings[0] if content.writings else None)
        cards.append(
            Card(
                message,
                content.channels(),
                [say_language(tag) for tag in content.languages()],
                findings.by_message.get(message.id),
                _first_words(first),
                uses.get(message.id, []),
                did.get(message.id, NOTHING),
            )
        )
    return context.page(
        "messages/messages.html",
        "messages",
        cards=cards,
        checking=not findings.is_fresh,
        q=sought,
        unsaved=unsaved.all_typed(context.application, context.user_id, "message"),
    )


@dataclass(frozen=True)
class Card:
    """A message as the library shows it: what it is written for, its mistakes (``None`` until they are looked
    for), its first words, what uses it, and how it did.
    """

    message: Message
    channels: Sequence[str]
    languages: list[str]
    findings: Sequence[Finding] | None
    words: str
    uses: list[str]
    did: Did


def _holds(message: Message, content: c.MessageContent, sought: str) -> bool:
    texts = [message.name, *(text for one in content.writings for _, text in c.texts_of(one))]
    return any(sought.casefold() in text.casefold() for text in texts)


@router.get("/messages/{message_id:int}/small")
def small(message_id: int, context: RequestContext = SignedIn) -> Response:
    """The email as its first reader gets it, for a small picture of it."""
    message = _message(context, message_id)
    email = message_queries.content_of(context.application, message.id).find("email")
    try:
        if email is None:
            raise FieldProblem("nothing by email")
        people = preview.readers(context.application)
        shown = preview.read_as(context.application, email, people[0].id if people else None)
        page = _as_viewed(context, shown, "phone")
    except FieldProblem as problem:
        page = context.piece("messages/plain.html", text=str(problem))
    return HTMLResponse(page, headers={"X-Mail-Page": "yes"})


@router.post("/messages/unsaved")
def throw_away(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What was typed and not saved goes; what was saved stays."""
    about = text_of(form, "about")
    unsaved.drop_typed(context.application, context.user_id, "message", about)
    return context.go("/messages" if about.startswith("new-") else f"/messages/{about}")


def _first_words(writing: Writing | None) -> str:
    if writing is None:
        return ""
    if isinstance(writing, c.EmailContent):
        return plain(writing.subject)
    return plain(writing.texts[0].text)[:90] if writing.texts else ""


@router.get("/messages/new")
def new(context: RequestContext = SignedIn, start: str = "", typed: str = "") -> Response:
    """From one of the occasions to start from, or from what was typed before, or the choice of them."""
    if not start and not typed:
        return context.page(
            "messages/message_templates.html", "messages", occasions=message_templates.OCCASIONS
        )
    if typed:
        kept = unsaved.typed_of(context.application, context.user_id, "message", typed)
        if kept is None:
            raise NotFound("Of this message nothing is kept: it was saved, or thrown away.")
        return _editor(context, None, *_typed(kept), kept=kept, opened=True)
    made = message_templates.find(start)
    if made is None:
        raise NotFound("There is no such message to start from.")
    letterheads = message_queries.letterheads(context.application)
    content = message_templates.with_letterhead(made.content, letterheads[0].id if letterheads else None)
    return _editor(context, None, made.name if start != "blank" else "", content, made.purpose)


@router.get("/messages/fields")
def fields(context: RequestContext = SignedIn) -> Response:
    """The picker: every field with for how many of those on file it is missing."""
    known = field_coverage.missing_everywhere(context.application)
    kit = editor_choices_of(context)
    groups = [
        (name, [field for field in FIELDS if field.group == name])
        for name in dict.fromkeys(field.group for field in FIELDS)
    ]
    offers = [
        (f"offer_{at}.{part}", f"{words} of {name}")
        for at, name in kit.offers
        for part, words in OFFER_PARTS.items()
    ]
    return HTMLResponse(
        context.piece(
            "messages/fields.html",
            groups=groups,
            own=kit.own_fields,
            offers=offers,
            known=known,
            plain_groups=(SHOP, LINKS),
        )
    )


@router.get("/messages/draft/{key}")
def preview_page(
    key: str, context: RequestContext = SignedIn, reader: int = 0, view: str = "phone"
) -> Response:
    """The mail itself, alone in its frame."""
    content = drafts_of(context).get(context.visitor.csrf, key)
    if content is None:
        raise NotFound("This preview is no longer kept; type anything in the letter to make it anew.")
    try:
        shown = preview.read_as(context.application, content, reader or None)
    except FieldProblem as problem:
        return HTMLResponse(
            context.piece("messages/plain.html", text=str(problem)), headers={"X-Mail-Page": "yes"}
        )
    return HTMLResponse(_as_viewed(context, shown, view), headers={"X-Mail-Page": "yes"})


def _as_viewed(context: RequestContext, shown: FilledEmail | str, view: str) -> str:
    if isinstance(shown, str) or view == "plain" or not shown.html:
        text = shown if isinstance(shown, str) else shown.text
        return context.piece("messages/plain.html", text=text)
    # a browser that prefers dark pages would otherwise show every preview so
    return shown.html.replace(DARK, "@media all" if view == "dark" else "@media not all")


@router.get("/messages/{message_id}")
def edit(message_id: int, context: RequestContext = SignedIn) -> Response:
    message = _message(context, message_id)
    content = message_queries.content_of(context.application, message_id)
    kept = unsaved.typed_of(context.application, context.user_id, "message", str(message_id))
    values = message.name, content, message.purpose
    if kept is None:
        return _editor(context, message_id, *values)
    newer = kept.base != unsaved.mark_of(_as_saved(*values))
    opened = not newer or bool(context.request.query_params.get("typed"))
    return _editor(
        context, message_id, *(_typed(kept) if opened else values), kept=kept, opened=opened, newer=newer
    )


def _as_saved(name: str, content: c.MessageContent, purpose: str) -> dict[str, Any]:
    return {"name": name, "purpose": purpose, "whole": content.model_dump(mode="json")}


def _saved(context: RequestContext, message_id: int | None) -> dict[str, Any]:
    """What is saved of a message; nothing of one that is new."""
    message = context.application.find(Message, message_id) if message_id else None
    if message is None:
        return {}
    content = message_queries.content_of(context.application, message.id)
    return _as_saved(message.name, content, message.purpose)


def _typed(kept: UnsavedDraft) -> tuple[str, c.MessageContent, str]:
    typed = kept.content or {}
    return str(typed["name"]), c.read_content(typed["whole"]), str(typed["purpose"])


def _note_typed(context: RequestContext, form: FormData, content: c.MessageContent) -> None:
    message_id, about = number_of(form, "message_id"), text_of(form, "about")
    if about and (not message_id or about == str(message_id)):
        typed = _as_saved(text_of(form, "name"), content, text_of(form, "purpose", "marketing"))
        saved, base = _saved(context, message_id), text_of(form, "base")
        unsaved.note_typed(context.application, context.user_id, "message", about, base, saved, typed)


def _editor(
    context: RequestContext,
    message_id: int | None,
    name: str,
    content: c.MessageContent,
    purpose: str,
    problem: str | None = None,
    kept: UnsavedDraft | None = None,
    opened: bool = False,
    newer: bool = False,
) -> Response:
    """``kept`` is what was typed before and not saved; ``opened``: the page shows it; ``newer``: what is
    saved has changed since.
    """
    asked = context.request.query_params
    form = FormData(
        {
            "channel": asked.get("channel") or (content.channels() or ["email"])[0],
            "language": asked.get("language", ""),
            "message_id": str(message_id or ""),
            "purpose": purpose,
        }
    )
    writing = writing_from(content, form)
    values: dict[str, Any] = {
        **sheet_values(context, content, writing),
        **rail_values(context, content, writing, form),
        "message_id": message_id,
        "name": name,
        "purpose": purpose,
        "fields": FIELDS,
        "problem": problem,
        "saved": bool(asked.get("saved")),
        "kept": kept,
        "opened": opened,
        "newer": newer,
        "about": str(message_id or (kept.about if kept else f"new-{token_hex(8)}")),
        "base": unsaved.mark_of(_saved(context, message_id)),
    }
    return context.page("messages/editor.html", "messages", 422 if problem else 200, **values)


@router.post("/messages/sheet")
def sheet(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The sheet drawn from the whole message, with the rail beside it."""
    try:
        content = content_from(form)
    except c.ContentProblem as problem:
        return HTMLResponse(context.piece("messages/broken.html", words=str(problem)))
    writing = writing_from(content, form)
    if text_of(form, "twins"):
        writing = with_plain_twins(writing)
        content = content.with_writing(writing)
    _note_typed(context, form, content)
    values = {**sheet_values(context, content, writing), **rail_values(context, content, writing, form)}
    return HTMLResponse(context.piece("messages/turned.html", **values))


@router.post("/messages/read")
def read(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        content = content_from(form)
    except c.ContentProblem as problem:
        return HTMLResponse(context.piece("messages/broken.html", words=str(problem)))
    _note_typed(context, form, content)
    values = rail_values(context, content, writing_from(content, form), form)
    return HTMLResponse(context.piece("messages/rail.html", **values))


@router.post("/messages/save")
def save(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    message_id, name = number_of(form, "message_id"), text_of(form, "name")
    purpose = "service" if text_of(form, "purpose") == "service" else "marketing"
    try:
        kept = message_commands.keep(
            context.application, message_id, name, content_from(form), context.by, purpose
        )
    except (message_queries.MessageProblem, c.ContentProblem) as problem:
        return context.problem(f"{problem}")
    unsaved.drop_typed(context.application, context.user_id, "message", text_of(form, "about", str(kept)))
    turned = f"&channel={text_of(form, 'channel')}&language={text_of(form, 'language')}"
    return context.go(f"/messages/{kept}?saved=yes{turned}")


@router.post("/messages/proof")
def proof(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    user = context.application.find(User, context.visitor.user_id)
    known = loaded(context.application, ProofSettings).readers
    chosen = number_of(form, "proof_to")
    me = next(
        (one for one in known if user and one.email == user.email),
        ProofReader(name=context.by, email=user.email if user else ""),
    )
    to = known[chosen] if chosen is not None and chosen < len(known) else me
    try:
        content = content_from(form)
        writing = writing_from(content, form)
        address = proofs.send_proof(context.application, writing, number_of(form, "reader"), to, context.by)
    except (proofs.NoProof, c.ContentProblem) as problem:
        return HTMLResponse(context.piece("messages/broken.html", words=str(problem)))
    context.wake()
    return HTMLResponse(
        context.piece(
            "messages/sent_proof.html",
            words=f"A proof is on its way to {address}.",
            post_room=context.request.app.state.demo,
        )
    )


@router.post("/messages/keep-block")
def keep_block(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        block = read_object(text_of(form, "block", "{}"))
        made = gallery.keep_block(context.application, text_of(form, "name"), block, context.by)
    except (gallery.CannotTake, ValueError) as problem:
        return JSONResponse({"problem": str(problem)}, 422)
    return JSONResponse({"id": made})


@router.post("/messages/attach")
async def attach(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    file = form.get("file")
    if not isinstance(file, UploadFile):
        return JSONResponse({"problem": "Choose a file first."}, 422)
    try:
        made = gallery.add_file(context.application, file.filename or "file", await file.read(), context.by)
    except gallery.CannotTake as problem:
        return JSONResponse({"problem": str(problem)}, 422)
    return JSONResponse({"id": made.id, "name": made.name})


@router.post("/messages/import")
async def take_in(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A message from a JSON, HTML or mail file, opened in the editor and not yet saved."""
    file = form.get("file")
    if not isinstance(file, UploadFile) or not file.filename:
        return context.problem("Choose a file first: JSON of ours, HTML, or a mail (.eml).")
    letterheads = message_queries.letterheads(context.application)
    try:
        name, content = message_files.read(
            file.filename, await file.read(), letterheads[0].id if letterheads else None
        )
    except c.ContentProblem as problem:
        return context.page(
            "messages/message_templates.html",
            "messages",
            422,
            occasions=message_templates.OCCASIONS,
            problem=str(problem),
        )
    return _editor(context, None, name, content, "marketing")


@router.get("/messages/{message_id}/export")
def export(message_id: int, context: RequestContext = SignedIn) -> Response:
    """As JSON whole, or the email as HTML or as a mail read as the first reader."""
    message = _message(context, message_id)
    content = message_queries.content_of(context.application, message_id)
    form = context.request.query_params.get("as", "json")
    try:
        made = message_files.write(context.application, message.name, content, form)
    except (c.ContentProblem, FieldProblem) as problem:
        return _editor(context, message_id, message.name, content, message.purpose, str(problem))
    return Response(
        made.data,
        media_type=made.kind,
        headers={"Content-Disposition": f'attachment; filename="{made.name}"'},
    )


@router.get("/messages/{message_id}/versions")
def versions(message_id: int, context: RequestContext = SignedIn, older: int = 0, newer: int = 0) -> Response:
    message = _message(context, message_id)
    kept = message_queries.versions(context.application, message_id)
    numbers = {one.number for one in kept}
    newer = newer if newer in numbers else kept[0].number
    older = older if older in numbers else max((one for one in numbers if one < newer), default=newer)
    return context.page(
        "messages/versions.html",
        "messages",
        message=message,
        versions=kept,
        older=older,
        newer=newer,
        lines=message_queries.compare(context.application, message_id, older, newer)
        if older != newer
        else [],
    )


@router.post("/messages/{message_id}/versions")
def change_version(message_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    _message(context, message_id)
    number = number_of(form, "number") or 0
    if number not in {
        version.number for version in message_queries.versions(context.application, message_id)
    }:
        raise NotFound("There is no such version.")
    if text_of(form, "act") == "restore":
        message_commands.restore(context.application, message_id, number, context.by)
        return context.go(f"/messages/{message_id}?saved=yes")
    message_commands.name_version(context.application, message_id, number, text_of(form, "name"))
    return context.go(f"/messages/{message_id}/versions")


@router.post("/messages/{message_id}/copy")
def copy(message_id: int, context: RequestContext = SignedIn) -> Response:
    _message(context, message_id)
    return context.go(f"/messages/{message_commands.copy(context.application, message_id, context.by)}")


@router.post("/messages/{message_id}/delete")
def delete(message_id: int, context: RequestContext = SignedIn) -> Response:
    message = _message(context, message_id)
    try:
        message_commands.drop(context.application, message_id, context.by)
    except message_queries.MessageProblem as problem:
        content = message_queries.content_of(context.application, message_id)
        return _editor(context, message_id, message.name, content, message.purpose, str(problem))
    return context.go("/messages")
