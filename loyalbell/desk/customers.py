"""The customer book: finding people, and one person's dated diary."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.care import CAUSE_WORDS
from loyalbell.core.ledger import CHANNELS
from loyalbell.core.money import say_money
from loyalbell.desk.desk import Desk
from loyalbell.store.consent import consent_now
from loyalbell.store.person_search import find_ids
from loyalbell.store.tables import (
    Companion,
    ConsentEntry,
    Department,
    ExternalId,
    Item,
    Message,
    MessageVersion,
    Order,
    OrderLine,
    Person,
    Suppression,
    Touch,
    TouchEvent,
)

PAGE = 50


@dataclass(frozen=True)
class Line:
    """One person in the book; ``orders`` stand (not cancelled), ``spent`` is net minor units."""

    person: Person
    orders: int
    last_order: datetime | None
    spent: int


@dataclass(frozen=True)
class DiaryEntry:
    """``kind`` is order, message, response or consent."""

    at: datetime
    kind: str
    title: str
    detail: str = ""


@dataclass(frozen=True)
class CustomerPage:
    person: Person
    external_ids: list[str]
    companions: list[Companion]
    consents: dict[str, str]
    suppressions: list[Suppression]
    diary: list[DiaryEntry]
    orders: int
    spent: int
    currency: str


def find(desk: Desk, search: str, after: int = 0, limit: int = PAGE) -> list[Line]:
    """People who hold every word of ``search``, or everyone, by id, beginning after ``after``."""
    with desk.book.reading() as session:
        query = select(Person).order_by(Person.id)
        if search.strip():
            query = query.where(Person.id.in_(find_ids(session, search, after, limit)))
        else:
            query = query.where(Person.id > after).limit(limit)
        return _lines(session, list(session.scalars(query)))


def count(desk: Desk) -> int:
    """How many people are on file."""
    with desk.book.reading() as session:
        return session.scalar(select(func.count()).select_from(Person)) or 0


def _lines(session: Session, people: list[Person]) -> list[Line]:
    ids = [person.id for person in people]
    rows = session.execute(
        select(
            Order.person_id,
            func.count(),
            func.max(Order.placed_at),
            func.sum(Order.total_minor - Order.refunded_minor),
        )
        .where(Order.person_id.in_(ids), _stands())
        .group_by(Order.person_id)
    )
    sums = {person_id: (orders, last, spent) for person_id, orders, last, spent in rows}
    return [Line(person, *_sum(sums.get(person.id))) for person in people]


def _stands() -> ColumnElement[bool]:
    whole = (Order.refunded_minor > 0) & (Order.refunded_minor >= Order.total_minor)
    return Order.cancelled_at.is_(None) & ~whole


def _sum(found: tuple[int, datetime | None, int] | None) -> tuple[int, datetime | None, int]:
    return found or (0, None, 0)


def page_of(desk: Desk, person_id: int) -> CustomerPage | None:
    shop = desk.the_shop()
    with desk.book.reading() as session:
        person = session.get(Person, person_id)
        if person is None:
            return None
        line = _lines(session, [person])[0]
        return CustomerPage(
            person=person,
            external_ids=list(
                session.scalars(select(ExternalId.value).where(ExternalId.person_id == person_id))
            ),
            companions=list(session.scalars(select(Companion).where(Companion.person_id == person_id))),
            consents={
                channel: consent_now(session, [person_id], channel).get(person_id, "never asked")
                for channel in CHANNELS
            },
            suppressions=list(
                session.scalars(
                    select(Suppression).where(
                        Suppression.person_id == person_id, Suppression.lifted_at.is_(None)
                    )
                )
            ),
            diary=_diary(session, person_id, shop.currency),
            orders=line.orders,
            spent=line.spent,
            currency=shop.currency,
        )


def _diary(session: Session, person_id: int, currency: str) -> list[DiaryEntry]:
    entries = [
        *_order_entries(session, person_id, currency),
        *_touch_entries(session, person_id),
        *_consent_entries(session, person_id),
    ]
    return sorted(entries, key=lambda entry: entry.at, reverse=True)


def _order_entries(session: Session, person_id: int, currency: str) -> list[DiaryEntry]:
    departments = dict(session.execute(select(Department.id, Department.name)).all())
    lines: dict[int, list[str]] = {}
    for order_id, quantity, name in session.execute(
        select(OrderLine.order_id, OrderLine.quantity, Item.name)
        .join(Order, Order.id == OrderLine.order_id)
        .join(Item, Item.id == OrderLine.item_id)
        .where(Order.person_id == person_id)
    ):
        times = f"{quantity / 1000:g} × " if quantity != 1000 else ""
        lines.setdefault(order_id, []).append(times + name)
    entries = []
    for order in session.scalars(select(Order).where(Order.person_id == person_id)):
        where = f" in {departments[order.department_id]}" if order.department_id in departments else ""
        fate = "cancelled" if order.cancelled_at else "refunded" if order.refunded_minor else "order"
        title = f"{fate.capitalize()}{where}, {say_money(order.total_minor, currency)}"
        entries.append(DiaryEntry(order.placed_at, "order", title, ", ".join(lines.get(order.id, []))))
    return entries


def _touch_entries(session: Session, person_id: int) -> list[DiaryEntry]:
    entries = []
    rows = session.execute(
        select(Touch, Message.name)
        .join(MessageVersion, MessageVersion.id == Touch.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(Touch.person_id == person_id)
    )
    for touch, name in rows:
        at = touch.sent_at or touch.due_at
        if touch.state == "withheld":
            why = CAUSE_WORDS.get(touch.cause or "", touch.cause or "")
            entries.append(DiaryEntry(at, "message", f"“{name}” not sent", why))
        else:
            state = {"sent": "sent by", "bounced": "not accepted by", "unsure": "perhaps sent by"}.get(
                touch.state, "planned by"
            )
            entries.append(
                DiaryEntry(at, "message", f"“{name}” {state} {touch.channel}", touch.address or "")
            )
        for event in session.scalars(select(TouchEvent).where(TouchEvent.touch_id == touch.id)):
            verb = {"opened": "Opened", "clicked": "Pressed a button in", "refused": "Unsubscribed in"}
            entries.append(DiaryEntry(event.at, "response", f"{verb.get(event.kind, event.kind)} “{name}”"))
    return entries


def _consent_entries(session: Session, person_id: int) -> list[DiaryEntry]:
    words = {"agreed": "Agreed to", "refused": "Refused", "waiting": "Was asked to confirm"}
    return [
        DiaryEntry(
            entry.at, "consent", f"{words.get(entry.state, entry.state)} {entry.channel}", entry.source
        )
        for entry in session.scalars(select(ConsentEntry).where(ConsentEntry.person_id == person_id))
    ]
