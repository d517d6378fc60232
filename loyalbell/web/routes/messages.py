"""Messages: the library, the letter editor, and reading it as real people."""

import json
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from sqlalchemy import select
from starlette.datastructures import FormData, UploadFile

from loyalbell.core.messages import content as c
from loyalbell.core.messages.fields import FIELDS, LINKS, SHOP, FieldProblem
from loyalbell.core.messages.letter import DARK, FilledEmail
from loyalbell.desk import (
    findings,
    gallery,
    message_fields,
    message_files,
    messages,
    proofs,
    reading_as,
    templates,
)
from loyalbell.desk.channel_settings import ProofReader, ProofSettings
from loyalbell.store.tables import Campaign, Message, User
from loyalbell.web.drafts import Writing, drafts_of
from loyalbell.web.letter_form import OFFER_PARTS, plain
from loyalbell.web.message_sheet import (
    content_from,
    kit_of,
    rail_values,
    say_language,
    sheet_values,
    with_plain_twins,
    writing_from,
)
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()


def _message(visit: Visit, message_id: int) -> Message:
    with visit.desk.book.reading() as session:
        message = session.get(Message, message_id)
    if message is None or message.hidden:
        raise NotFound("No such message is on file.")
    return message


@router.get("/messages")
def list_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        kept = list(session.scalars(select(Message).where(~Message.hidden).order_by(Message.name)))
        uses: dict[int, list[str]] = {}
        for message_id, name in session.execute(select(Campaign.message_id, Campaign.name)):
            uses.setdefault(message_id, []).append(name)
    rows = []
    for message in kept:
        content = messages.content_of(visit.desk, message.id)
        found = findings.findings_of_all(visit.desk, content, None, message.purpose == "marketing")
        first = content.find("email") or (content.writings[0] if content.writings else None)
        rows.append((message, content, found, _first_words(first)))
    return visit.page("messages/messages.html", "messages", rows=rows, uses=uses, say_language=say_language)


def _first_words(writing: Writing | None) -> str:
    if writing is None:
        return ""
    if isinstance(writing, c.EmailContent):
        return plain(writing.subject)
    return plain(writing.texts[0].text)[:90] if writing.texts else ""


@router.get("/messages/new")
def new(visit: Visit = SignedIn, start: str = "") -> Response:
    """From one of the occasions to start from, or the choice of them."""
    if not start:
        return visit.page("messages/templates.html", "messages", occasions=templates.OCCASIONS)
    made = templates.find(start)
    if made is None:
        raise NotFound("There is no such message to start from.")
    letterheads = messages.letterheads(visit.desk)
    content = templates.with_letterhead(made.content, letterheads[0].id if letterheads else None)
    return _editor(visit, None, made.name if start != "blank" else "", content, made.purpose)


@router.get("/messages/fields")
def fields(visit: Visit = SignedIn) -> Response:
    """The picker: every field with for how many of those on file it is missing."""
    known = message_fields.missing_everywhere(visit.desk)
    kit = kit_of(visit)
    groups = [
        (name, [one for one in FIELDS if one.group == name])
        for name in dict.fromkeys(one.group for one in FIELDS)
    ]
    offers = [
        (f"offer_{at}.{part}", f"{words} of {name}")
        for at, name in kit.offers
        for part, words in OFFER_PARTS.items()
    ]
    return HTMLResponse(
        visit.piece(
            "messages/fields.html", groups=groups, own=kit.own_fields, offers=offers, missing=known.missing,
            people=known.people, plain_groups=(SHOP, LINKS),
        )
    )  # fmt: skip


@router.get("/messages/draft/{key}")
def preview(key: str, visit: Visit = SignedIn, reader: int = 0, view: str = "phone") -> Response:
    """The mail itself, alone in its frame."""
    content = drafts_of(visit).get(visit.visitor.csrf, key)
    if content is None:
        raise NotFound("This preview is no longer kept; type anything in the letter to make it anew.")
    try:
        shown = reading_as.read_as(visit.desk, content, reader or None)
    except FieldProblem as problem:
        return HTMLResponse(
            visit.piece("messages/plain.html", text=str(problem)), headers={"X-Mail-Page": "yes"}
        )
    return HTMLResponse(_as_viewed(visit, shown, view), headers={"X-Mail-Page": "yes"})


def _as_viewed(visit: Visit, shown: FilledEmail | str, view: str) -> str:
    if isinstance(shown, str) or view == "plain" or not shown.html:
        text = shown if isinstance(shown, str) else shown.text
        return visit.piece("messages/plain.html", text=text)
    return shown.html.replace(DARK, "@media all") if view == "dark" else shown.html


@router.get("/messages/{message_id}")
def edit(message_id: int, visit: Visit = SignedIn) -> Response:
    message = _message(visit, message_id)
    content = messages.content_of(visit.desk, message_id)
    return _editor(visit, message_id, message.name, content, message.purpose)


def _editor(
    visit: Visit, message_id: int | None, name: str, content: c.MessageContent, purpose: str, problem: str | None = None
) -> Response:  # fmt: skip
    asked = visit.request.query_params
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
        **sheet_values(visit, content, writing),
        **rail_values(visit, content, writing, form),
        "message_id": message_id,
        "name": name,
        "purpose": purpose,
        "fields": FIELDS,
        "problem": problem,
        "saved": bool(asked.get("saved")),
    }
    return visit.page("messages/editor.html", "messages", 422 if problem else 200, **values)


@router.post("/messages/sheet")
def sheet(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The sheet drawn from the whole message, with the rail beside it."""
    try:
        content = content_from(form)
    except c.ContentProblem as problem:
        return HTMLResponse(visit.piece("messages/broken.html", words=str(problem)))
    writing = writing_from(content, form)
    if text_of(form, "twins"):
        writing = with_plain_twins(writing)
        content = content.with_writing(writing)
    values = {**sheet_values(visit, content, writing), **rail_values(visit, content, writing, form)}
    return HTMLResponse(visit.piece("messages/turned.html", **values))


@router.post("/messages/read")
def read(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        content = content_from(form)
    except c.ContentProblem as problem:
        return HTMLResponse(visit.piece("messages/broken.html", words=str(problem)))
    values = rail_values(visit, content, writing_from(content, form), form)
    return HTMLResponse(visit.piece("messages/rail.html", **values))


@router.post("/messages/save")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    message_id, name = number_of(form, "message_id"), text_of(form, "name")
    purpose = "service" if text_of(form, "purpose") == "service" else "marketing"
    try:
        kept = messages.keep(visit.desk, message_id, name, content_from(form), visit.by, purpose)
    except (messages.MessageProblem, c.ContentProblem) as problem:
        return visit.problem(f"{problem}")
    turned = f"&channel={text_of(form, 'channel')}&language={text_of(form, 'language')}"
    return visit.go(f"/messages/{kept}?saved=yes{turned}")


@router.post("/messages/proof")
def proof(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    with visit.desk.book.reading() as session:
        user = session.get(User, visit.visitor.user_id)
        known = ProofSettings.load(session).readers
    chosen = number_of(form, "proof_to")
    me = next((one for one in known if user and one.email == user.email), ProofReader(name=visit.by, email=user.email if user else ""))  # fmt: skip
    to = known[chosen] if chosen is not None and chosen < len(known) else me
    try:
        content = content_from(form)
        writing = writing_from(content, form)
        address = proofs.send_proof(visit.desk, writing, number_of(form, "reader"), to, visit.by)
    except (proofs.NoProof, c.ContentProblem) as problem:
        return HTMLResponse(visit.piece("messages/broken.html", words=str(problem)))
    visit.wake()
    where = " It is in the post room." if visit.request.app.state.room else ""
    return HTMLResponse(
        visit.piece("messages/sent_proof.html", words=f"A proof is on its way to {address}.{where}")
    )


@router.post("/messages/keep-block")
def keep_block(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        block = json.loads(text_of(form, "block", "{}"))
        made = gallery.keep_block(visit.desk, text_of(form, "name"), block, visit.by)
    except (gallery.CannotTake, ValueError) as problem:
        return JSONResponse({"problem": str(problem)}, 422)
    return JSONResponse({"id": made})


@router.post("/messages/attach")
async def attach(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    file = form.get("file")
    if not isinstance(file, UploadFile):
        return JSONResponse({"problem": "Choose a file first."}, 422)
    try:
        made = gallery.add_file(visit.desk, file.filename or "file", await file.read(), visit.by)
    except gallery.CannotTake as problem:
        return JSONResponse({"problem": str(problem)}, 422)
    return JSONResponse({"id": made.id, "name": made.name})


@router.post("/messages/import")
async def take_in(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """A message from a JSON, HTML or mail file, opened in the editor and not yet saved."""
    file = form.get("file")
    if not isinstance(file, UploadFile) or not file.filename:
        return visit.problem("Choose a file first: JSON of ours, HTML, or a mail (.eml).")
    letterheads = messages.letterheads(visit.desk)
    try:
        name, content = message_files.read(
            file.filename, await file.read(), letterheads[0].id if letterheads else None
        )
    except c.ContentProblem as problem:
        return visit.page(
            "messages/templates.html", "messages", 422, occasions=templates.OCCASIONS, problem=str(problem)
        )
    return _editor(visit, None, name, content, "marketing")


@router.get("/messages/{message_id}/export")
def export(message_id: int, visit: Visit = SignedIn) -> Response:
    """As JSON whole, or the email as HTML or as a mail read as the first reader."""
    message = _message(visit, message_id)
    content = messages.content_of(visit.desk, message_id)
    form = visit.request.query_params.get("as", "json")
    try:
        made = message_files.write(visit.desk, message.name, content, form)
    except (c.ContentProblem, FieldProblem) as problem:
        return _editor(visit, message_id, message.name, content, message.purpose, str(problem))
    return Response(
        made.data,
        media_type=made.kind,
        headers={"Content-Disposition": f'attachment; filename="{made.name}"'},
    )


@router.get("/messages/{message_id}/versions")
def versions(message_id: int, visit: Visit = SignedIn, older: int = 0, newer: int = 0) -> Response:
    message = _message(visit, message_id)
    kept = messages.versions(visit.desk, message_id)
    numbers = {one.number for one in kept}
    newer = newer if newer in numbers else kept[0].number
    older = older if older in numbers else max((one for one in numbers if one < newer), default=newer)
    return visit.page(
        "messages/versions.html", "messages", message=message, versions=kept, older=older, newer=newer,
        lines=messages.compare(visit.desk, message_id, older, newer) if older != newer else [],
    )  # fmt: skip


@router.post("/messages/{message_id}/versions")
def change_version(message_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    _message(visit, message_id)
    number = number_of(form, "number") or 0
    if number not in {one.number for one in messages.versions(visit.desk, message_id)}:
        raise NotFound("There is no such version.")
    if text_of(form, "act") == "restore":
        messages.restore(visit.desk, message_id, number, visit.by)
        return visit.go(f"/messages/{message_id}?saved=yes")
    messages.name_version(visit.desk, message_id, number, text_of(form, "name"))
    return visit.go(f"/messages/{message_id}/versions")


@router.post("/messages/{message_id}/copy")
def copy(message_id: int, visit: Visit = SignedIn) -> Response:
    _message(visit, message_id)
    return visit.go(f"/messages/{messages.copy(visit.desk, message_id, visit.by)}")


@router.post("/messages/{message_id}/delete")
def delete(message_id: int, visit: Visit = SignedIn) -> Response:
    message = _message(visit, message_id)
    try:
        messages.drop(visit.desk, message_id, visit.by)
    except messages.MessageProblem as problem:
        content = messages.content_of(visit.desk, message_id)
        return _editor(visit, message_id, message.name, content, message.purpose, str(problem))
    return visit.go("/messages")
