"""Messages out of and into files: our JSON whole, an email as HTML or as a mail (RFC 5322)."""

import json
from dataclasses import dataclass
from email import policy
from email.message import EmailMessage
from email.parser import BytesParser
from pathlib import PurePath

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.services.application import Application
from loyalbell.services.messages import preview

MOST_BYTES = 2_000_000


@dataclass(frozen=True)
class MadeFile:
    name: str
    kind: str
    data: bytes


def write(application: Application, name: str, content: c.MessageContent, form: str) -> MadeFile:
    """``form``: json, html or eml.

    The latter two as the first reader gets the email. Raises ``ContentProblem``, ``FieldProblem``.
    """
    plain = (
        "".join(one if one.isascii() and (one.isalnum() or one in " -_") else "" for one in name).strip()
        or "message"
    )
    if form == "json":
        return MadeFile(f"{plain}.json", "application/json", content.model_dump_json(indent=1).encode())
    email = content.find("email")
    if email is None:
        raise c.ContentProblem("This message says nothing by email, so there is no page and no mail of it.")
    people = preview.readers(application)
    shown = preview.read_as(application, email, people[0].id if people else None)
    assert isinstance(shown, FilledEmail)
    if form == "html":
        return MadeFile(f"{plain}.html", "text/html", (shown.html or f"<pre>{shown.text}</pre>").encode())
    shop = application.the_shop()
    envelope = Envelope(
        shop.sender_name,
        shop.sender_email or "shop@localhost",
        "A customer",
        "customer@localhost",
        "<copy@localhost>",
        application.clock.now(),
        f"{shop.public_url}/",
    )
    return MadeFile(f"{plain}.eml", "message/rfc822", make_mail(shown, envelope).as_bytes())


def read(name: str, data: bytes, letterhead: int | None) -> tuple[str, c.MessageContent]:
    """A name for the message, and what it says. Raises ``ContentProblem``."""
    if len(data) > MOST_BYTES:
        raise c.ContentProblem(f"This file has {len(data) / 1e6:.1f} MB; 2 MB at most.")
    path = PurePath(name.replace("\\", "/"))
    ending = path.suffix.lower()
    if ending == ".json":
        return path.stem, _from_json(data)
    if ending in (".html", ".htm"):
        return path.stem, c.as_message(_own(path.stem, _text(data), "", letterhead))
    if ending == ".eml":
        return _from_mail(path.stem, data, letterhead)
    raise c.ContentProblem("A message is read from JSON of ours, from HTML, or from a mail (.eml).")


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _from_json(data: bytes) -> c.MessageContent:
    try:
        return c.read_content(json.loads(_text(data)))
    except json.JSONDecodeError as error:
        raise c.ContentProblem(f"This is not JSON: line {error.lineno}, {error.msg}.") from error


def _own(subject: str, html: str, plain: str, letterhead: int | None) -> c.EmailContent:
    """Liquid in it is foreign and stays as it is; its marks are taken apart so that it does nothing."""
    if len(html) > 500_000:
        raise c.ContentProblem("This page is longer than 500,000 characters.")
    return c.EmailContent(
        form="html" if html else "plain",
        subject=" ".join(subject.split())[:500],
        html=html,
        plain=plain[:100_000],
        letterhead=letterhead,
    )


def _from_mail(name: str, data: bytes, letterhead: int | None) -> tuple[str, c.MessageContent]:
    mail = BytesParser(policy=policy.default).parsebytes(data)
    assert isinstance(mail, EmailMessage)
    page, plain = mail.get_body(("html",)), mail.get_body(("plain",))
    if page is None and plain is None:
        raise c.ContentProblem("This mail has no text that can be read.")
    html = str(page.get_content()) if page is not None else ""
    words = str(plain.get_content()) if plain is not None else ""
    subject = str(mail["Subject"] or name)
    return subject[:120], c.as_message(_own(subject, html, words, letterhead))
