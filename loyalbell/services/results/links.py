"""The links of one message of a campaign or sequence: who pressed which, and that drawn on the email."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.email_rendering import CompiledEmail, FilledEmail, link_name
from loyalbell.core.messages.merge_fields import FIELDS, FieldProblem
from loyalbell.core.policy.delivery_state import SENT
from loyalbell.core.policy.origins import Origin
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import compiled_version
from loyalbell.services.messages.preview import readers, say_language, with_marked_links
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, DeliveryEvent, Message, MessageVersion, Shop

MOST_WRITINGS = 12
ITEM = -1
"""The links of item cards differ from person to person; they are counted together."""
MARK = "#link-{}"
_LINK = re.compile(r'(<a\b[^>]*href="#link-(\d+)"[^>]*>)(.*?)(</a>)', re.DOTALL | re.IGNORECASE)
_FIELD = re.compile(r"\{\{\s*([a-z_0-9.]+)[^}]*\}\}")
BADGE = (
    '<span style="display:inline-block;margin-left:6px;padding:1px 7px;border-radius:9px;background:#c8922e;'
    'color:#1f2a2b;font:bold 12px/1.4 sans-serif;text-decoration:none;vertical-align:middle">{}</span>'
)


@dataclass(frozen=True)
class LinkFigures:
    """One link: where it leads, how many ``people`` pressed it, and their ``share`` of those it reached."""

    number: int
    leads_to: str
    people: int
    share: float | None


@dataclass(frozen=True)
class MessageLinks:
    """The links of one writing. ``html`` is that email, if it is one, with shares drawn on it.

    ``writings`` are all that there are, in words, and ``place`` says which of them it is. ``pressed`` counts
    people who pressed any link, ``delivered`` those it was delivered to.
    """

    message: str
    channel: str
    delivered: int
    pressed: int
    links: list[LinkFigures]
    html: str
    writings: list[str]
    place: int


def links_of(
    application: Application, origin: Origin, days: Days, step: str = "", place: int = 0
) -> MessageLinks | None:
    """Of what a step sent in some days (empty for a campaign); ``None`` where nothing was delivered.

    ``place`` chooses one of its writings: messages, channels and languages, the one that most got first.
    """
    with application.database.reading() as session:
        within = (
            (Delivery.origin_kind == origin[0])
            & (Delivery.origin_id == origin[1])
            & (Delivery.step == step)
            & (Delivery.state == SENT)
            & Delivery.sent_at.between(*days.instants)
        )
        writings = _writings(session, within)
        if not writings:
            return None
        place = place if 0 <= place < len(writings) else 0
        name, version, channel, language = writings[place]
        mine = within & (Delivery.message_version_id == version) & (Delivery.channel == channel)
        mine &= Delivery.language == language
        delivered = session.scalar(select(func.count(Delivery.person_id.distinct())).where(mine)) or 0
        by_link, pressed = _pressed(session, mine)
        compiled = compiled_version(session, session.get_one(Shop, 1), version, channel, language)
    found = _figures(compiled.links if compiled is not None else (), by_link, delivered)
    html = _drawn(application, compiled, found) if isinstance(compiled, CompiledEmail) else ""
    found.sort(key=lambda link: (-link.people, link.number))
    said = [_say_writing(*writing, names={one[0] for one in writings}) for writing in writings]
    return MessageLinks(name, channel, delivered, pressed, found, html, said, place)


def _say_writing(name: str, version: int, channel: str, language: str, names: set[str]) -> str:
    """Only what tells it from the others."""
    parts = [f"“{name}”"] if len(names) > 1 else []
    return ", ".join([*parts, channel, *([say_language(language)] if language else [])])


def _writings(session: Session, within: ColumnElement[bool]) -> list[tuple[str, int, str, str]]:
    """Message, version, channel and language of each, the one that most got first."""
    query = (
        select(Message.name, Delivery.message_version_id, Delivery.channel, Delivery.language)
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(within)
        .group_by(Delivery.message_version_id, Delivery.channel, Delivery.language)
        .order_by(func.count().desc(), Delivery.message_version_id)
    )
    return [(row[0], row[1], row[2], row[3]) for row in session.execute(query.limit(MOST_WRITINGS))]


def _figures(addresses: Sequence[str], by_link: dict[int, int], delivered: int) -> list[LinkFigures]:
    named = [(number, _say_address(where)) for number, where in enumerate(addresses)]
    named += [(ITEM, "items shown")] if ITEM in by_link else []
    return [
        LinkFigures(number, where, by_link.get(number, 0), _share(by_link.get(number, 0), delivered))
        for number, where in named
    ]


def _say_address(address: str) -> str:
    """Fields in it by the words of the picker, such as *Booking page*."""
    labels = {field.name: field.label for field in FIELDS}
    whole = _FIELD.fullmatch(address.strip())
    if whole is not None and whole[1] in labels:
        return labels[whole[1]].capitalize()
    return _FIELD.sub(lambda found: f"[{labels.get(found[1], found[1].replace('_', ' '))}]", address)


def _share(people: int, delivered: int) -> float | None:
    return people / delivered if delivered else None


def _pressed(session: Session, mine: ColumnElement[bool]) -> tuple[dict[int, int], int]:
    """People by link, each once a link, and people who pressed any."""
    clicks = (
        select(func.coalesce(DeliveryEvent.link, ITEM).label("link"), Delivery.person_id)
        .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
        .where(mine, DeliveryEvent.kind == "clicked")
        .distinct()
        .subquery()
    )
    by_link = session.execute(select(clicks.c.link, func.count()).group_by(clicks.c.link))
    everybody = session.scalar(select(func.count(clicks.c.person_id.distinct())))
    return {link: count for link, count in by_link}, everybody or 0


def _drawn(application: Application, compiled: CompiledEmail, links: list[LinkFigures]) -> str:
    """The email as one customer would read it, each link with the share of people who pressed it."""
    marks = {link_name(link.number): MARK.format(link.number) for link in links if link.number != ITEM}
    reader = next(iter(readers(application)), None)
    if reader is None:
        return ""
    try:
        filled = with_marked_links(application, compiled, reader.id, marks)
    except FieldProblem:
        return ""
    assert isinstance(filled, FilledEmail)
    said = {link.number: BADGE.format(_say(link.share)) for link in links}
    return _LINK.sub(lambda found: f"{found[1]}{found[3]}{said[int(found[2])]}{found[4]}", filled.html)


def _say(share: float | None) -> str:
    if share is None:
        return "–"
    return escape(f"{100 * share:.1f} %" if share < 0.1 else f"{100 * share:.0f} %")
