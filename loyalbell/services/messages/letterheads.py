"""Letterheads, and the opening messages of chat."""

import re
from collections.abc import Mapping
from typing import Any

from markupsafe import escape
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import RenderContext, compile_email
from loyalbell.core.messages.merge_fields import FieldProblem, template
from loyalbell.core.messages.mime import one_line
from loyalbell.core.references import Kind
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import fill_for_preview, picture_url
from loyalbell.services.references import refuse_if_used
from loyalbell.storage.schema import GalleryPicture, Letterhead, OpeningMessage, Shop

FONTS = (
    "Verdana, Arial, sans-serif",
    "Arial, Helvetica, sans-serif",
    "Georgia, 'Times New Roman', serif",
    "'Trebuchet MS', Arial, sans-serif",
    "Tahoma, Arial, sans-serif",
    "'Courier New', monospace",
)
SAMPLE = c.EmailContent(
    subject="A letter",
    blocks=[
        c.Heading(text="Hello Noor,"),
        c.Text(text="this is how your letters look, with [a link](https://example.com/) in them."),
        c.Button(label="A button", url="https://example.com/"),
    ],
)
COLOURS = ("ink", "accent", "paper", "card")
NARROWEST, WIDEST = 320, 800
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


class LetterheadProblem(Exception):
    """Why it cannot be kept, in words."""


def every(session: Session) -> list[Letterhead]:
    return list(session.scalars(select(Letterhead).order_by(Letterhead.name)))


def keep(application: Application, letterhead_id: int | None, form: Mapping[str, Any], by: str) -> int:
    """Raises ``LetterheadProblem``."""
    name = one_line(str(form.get("name", "")))[:80]
    if not name:
        raise LetterheadProblem("Give the letterhead a name.")
    for words in (form.get("header"), form.get("footer")):
        check_fields(str(words or ""))
    colours = {key: str(form.get(key, "")) for key in COLOURS}
    if form.get("own_link"):
        colours["link"] = str(form.get("link", ""))
    wrong = next((colour for colour in colours.values() if not _COLOUR.fullmatch(colour)), None)
    if wrong is not None:
        raise LetterheadProblem(f"“{wrong}” is no colour. Write it like #173b39.")
    width = str(form.get("width", "600"))
    if not width.isdecimal() or not NARROWEST <= int(width) <= WIDEST:
        raise LetterheadProblem(f"The width must lie between {NARROWEST} and {WIDEST} pixels.")
    font = str(form.get("font", FONTS[0]))
    with application.database.transaction() as session:
        taken = session.scalar(select(Letterhead.id).where(Letterhead.name == name))
        if taken is not None and taken != letterhead_id:
            raise LetterheadProblem(f"There is a letterhead called “{name}” already.")
        row = session.get(Letterhead, letterhead_id) if letterhead_id else None
        if row is None:
            row = Letterhead()
            session.add(row)
        row.link = ""
        row.name, row.header, row.footer = (
            name,
            str(form.get("header", "")).strip()[:200],
            str(form.get("footer", "")).strip()[:1_000],
        )
        row.width, row.font = int(width), font if font in FONTS else FONTS[0]
        row.logo_id = _picture(session, form.get("logo"))
        row.dark_logo_id = _picture(session, form.get("dark_logo"))
        for key, value in colours.items():
            setattr(row, key, value.lower())
        session.flush()
        application.note(session, by, "saved a letterhead", letterhead=name)
        return row.id


def _picture(session: Session, said: Any) -> int | None:
    """The number of a picture of the gallery that a form names."""
    text = str(said or "")
    known = text.isdecimal() and len(text) < 16 and session.get(GalleryPicture, int(text)) is not None
    return int(text) if known else None


def check_fields(words: str) -> None:
    """Raises ``LetterheadProblem`` where a field in it cannot be filled: every email would fail."""
    try:
        template(words)
    except FieldProblem as problem:
        raise LetterheadProblem(str(problem)) from problem


def preview_of(application: Application, form: Mapping[str, Any]) -> str:
    """An email as a letterhead that is being changed would wrap it; what is no colour is left as usual."""
    colours = {key: str(form.get(key, "")) for key in (*COLOURS, "link")}
    kept = {key: one for key, one in colours.items() if _COLOUR.fullmatch(one)}
    if not form.get("own_link"):
        kept.pop("link", None)
    font, width = str(form.get("font", "")), str(form.get("width", ""))
    with application.database.reading() as session:
        shop = session.get_one(Shop, 1)
        pictures = {
            key: session.get(GalleryPicture, _picture(session, form.get(key)) or 0)
            for key in ("logo", "dark_logo")
        }
        look = c.LetterheadLook(
            header=str(form.get("header", ""))[:200],
            footer=str(form.get("footer", ""))[:1_000],
            **({"ink": "#1f2a2b", "accent": "#173b39"} | kept),
            font=font if font in FONTS else FONTS[0],
            width=int(width) if width.isdecimal() and NARROWEST <= int(width[:4]) <= WIDEST else 600,
            **{key: picture_url(shop, one.token) for key, one in pictures.items() if one is not None},
        )
        made = compile_email(SAMPLE, RenderContext(look))
        facts = {"shop_name": shop.name, "first_name": "Noor"}
        try:
            shown = fill_for_preview(session, made, facts, shop, application.clock.now())
        except FieldProblem as problem:
            return f"<p>{escape(str(problem))}</p>"
    return shown if isinstance(shown, str) else shown.html


def drop(application: Application, letterhead_id: int, by: str) -> None:
    """Raises ``InUse`` while a message uses it."""
    with application.database.transaction() as session:
        row = session.get_one(Letterhead, letterhead_id)
        refuse_if_used(session, Kind.LETTERHEAD, letterhead_id, f"The letterhead “{row.name}”")
        application.note(session, by, "deleted a letterhead", letterhead=row.name)
        session.delete(row)


def keep_opening(application: Application, opening_id: int | None, name: str, text: str, by: str) -> int:
    """A changed text waits for the network's word again. Raises ``LetterheadProblem``."""
    name, text = one_line(name)[:80], text.strip()[:1_000]
    if not name or not text:
        raise LetterheadProblem("An opening message needs a name and its words.")
    try:
        template(text)
    except FieldProblem as problem:
        raise LetterheadProblem(str(problem)) from problem
    with application.database.transaction() as session:
        taken = session.scalar(select(OpeningMessage.id).where(OpeningMessage.name == name))
        if taken is not None and taken != opening_id:
            raise LetterheadProblem(f"There is an opening message called “{name}” already.")
        row = session.get(OpeningMessage, opening_id) if opening_id else None
        if row is None:
            row = OpeningMessage(state="waiting")
            session.add(row)
        if row.text != text:
            row.state = "waiting"
        row.name, row.text, row.changed_at = name, text, application.clock.now()
        session.flush()
        application.note(session, by, "saved an opening message", name=name)
        return row.id


def settle_opening(application: Application, opening_id: int, state: str, by: str) -> None:
    with application.database.transaction() as session:
        row = session.get_one(OpeningMessage, opening_id)
        application.note(session, by, f"opening message: {state}", name=row.name)
        if state == "delete":
            session.delete(row)
        else:
            row.state, row.changed_at = state, application.clock.now()


def first_accent(application: Application) -> str | None:
    """The accent colour of the shop's first letterhead, as ``#rrggbb``."""
    with application.database.reading() as session:
        return session.scalars(select(Letterhead.accent).order_by(Letterhead.id).limit(1)).first()


def for_their_page(application: Application) -> tuple[list[Letterhead], list[tuple[int, str]]]:
    """The letterheads, and (id, name) of the pictures that can be their logos."""
    with application.database.reading() as session:
        pictures = session.execute(select(GalleryPicture.id, GalleryPicture.name))
        return every(session), [(picture_id, name) for picture_id, name in pictures]


def openings(application: Application) -> list[OpeningMessage]:
    """The opening messages of chat, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(OpeningMessage).order_by(OpeningMessage.name)))
