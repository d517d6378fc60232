"""Messages: the library, the letter editor, and reading it as real people."""

import json
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.core.messages.content import EmailContent, Heading, Text, read_content
from loyalbell.core.messages.fields import FIELDS
from loyalbell.desk import messages
from loyalbell.store.tables import Campaign, Message
from loyalbell.web.drafts import drafts_of
from loyalbell.web.letter_form import as_pieces
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
BLANK = EmailContent(blocks=[Heading(text='Hello {{ first_name | default: "there" }},'), Text()])


def _message(visit: Visit, message_id: int) -> Message:
    with visit.desk.book.reading() as session:
        message = session.get(Message, message_id)
    if message is None:
        raise NotFound("No such message is on file.")
    return message


@router.get("/messages")
def list_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        kept = list(session.scalars(select(Message).order_by(Message.name)))
        uses: dict[int, list[str]] = {}
        for message_id, name in session.execute(select(Campaign.message_id, Campaign.name)):
            uses.setdefault(message_id, []).append(name)
    contents = {message.id: messages.content_of(visit.desk, message.id) for message in kept}
    findings = {at: messages.findings_of(visit.desk, content) for at, content in contents.items()}
    values: dict[str, Any] = {"kept": kept, "contents": contents, "findings": findings, "uses": uses}
    return visit.page("messages/messages.html", "messages", pieces=as_pieces, **values)


@router.get("/messages/new")
def new(visit: Visit = SignedIn) -> Response:
    letterheads = messages.letterheads(visit.desk)
    first = letterheads[0].id if letterheads else None
    return _editor(visit, None, "", BLANK.model_copy(update={"letterhead": first}))


@router.get("/messages/{message_id}")
def edit(message_id: int, visit: Visit = SignedIn) -> Response:
    message = _message(visit, message_id)
    return _editor(visit, message_id, message.name, messages.content_of(visit.desk, message_id))


def _editor(
    visit: Visit, message_id: int | None, name: str, content: EmailContent, problem: str | None = None
) -> Response:
    readers = messages.readers(visit.desk)
    values = _rail(visit, content, readers[0].id if readers else None) | {
        "message_id": message_id,
        "name": name,
        "content": content,
        "pieces": as_pieces,
        "fields": FIELDS,
        "letterheads": messages.letterheads(visit.desk),
        "problem": problem,
        "saved": bool(visit.request.query_params.get("saved")),
    }
    return visit.page("messages/editor.html", "messages", 422 if problem else 200, **values)


def _rail(visit: Visit, content: EmailContent, reader: int | None) -> dict[str, object]:
    readers = messages.readers(visit.desk)
    key = drafts_of(visit).put(visit.visitor.csrf, content)
    shown = messages.read_as(visit.desk, content, reader)
    return {
        "readers": readers,
        "reader": reader,
        "draft": key,
        "shown": shown if not isinstance(shown, str) else None,
        "withheld": shown if isinstance(shown, str) else None,
        "findings": messages.findings_of(visit.desk, content),
    }


def content_from(form: FormData) -> EmailContent:
    """The content that the editor's fields say. Raises pydantic's ``ValidationError`` or ``ValueError``."""
    return read_content(
        {
            "subject": " ".join(text_of(form, "subject").split()),
            "preview": " ".join(text_of(form, "preview").split()),
            "letterhead": number_of(form, "letterhead"),
            "blocks": json.loads(text_of(form, "blocks", "[]")),
        }
    )


@router.post("/messages/read")
def read(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        content = content_from(form)
    except (ValidationError, ValueError):
        return HTMLResponse("This text is too long, or holds a block that is not known.", status_code=422)
    values = _rail(visit, content, number_of(form, "reader"))
    return HTMLResponse(visit.piece("messages/rail.html", **values))


@router.get("/messages/draft/{key}")
def preview(key: str, visit: Visit = SignedIn, reader: int = 0) -> Response:
    """The mail itself, alone in its frame."""
    content = drafts_of(visit).get(visit.visitor.csrf, key)
    if content is None:
        raise NotFound("This preview is no longer kept; type anything in the letter to make it anew.")
    shown = messages.read_as(visit.desk, content, reader or None)
    page = shown if isinstance(shown, str) else shown.html
    return HTMLResponse(page, headers={"X-Mail-Page": "yes"})


@router.post("/messages/save")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    message_id, name = number_of(form, "message_id"), text_of(form, "name")
    try:
        content = content_from(form)
        kept = messages.keep(visit.desk, message_id, name, content, visit.by)
    except messages.MessageProblem as problem:
        return visit.problem(str(problem))
    except (ValidationError, ValueError):
        return visit.problem("This text is too long, or holds a block that is not known. It was not saved.")
    return visit.go(f"/messages/{kept}?saved=yes")


@router.post("/messages/{message_id}/delete")
def delete(message_id: int, visit: Visit = SignedIn) -> Response:
    message = _message(visit, message_id)
    try:
        messages.drop(visit.desk, message_id, visit.by)
    except messages.MessageProblem as problem:
        content = messages.content_of(visit.desk, message_id)
        return _editor(visit, message_id, message.name, content, str(problem))
    return visit.go("/messages")
