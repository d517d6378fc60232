"""What a message is about, for its fields: the order, the appointment, the membership or the visit at hand.

In a sequence that something of the history started it is that very row; elsewhere the newest of the person.
"""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.history.money import say_money
from loyalbell.core.messages.merge_fields import ABOUT_APPOINTMENT, ABOUT_MEMBERSHIP, ABOUT_ORDER, ABOUT_VISIT
from loyalbell.core.messages.mime import one_line
from loyalbell.core.messages.spoken_dates import say_clock, say_date, say_weekday
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.storage.schema import (
    Appointment,
    Base,
    Delivery,
    Department,
    Item,
    Location,
    Membership,
    Order,
    OrderLine,
    Shop,
    Staff,
    Visit,
)

Facts = dict[str, object]
Lines = Mapping[int, Sequence[tuple[str, int, int]]]
SUBJECTS: dict[str, tuple[type[Base], frozenset[str]]] = {
    "order": (Order, ABOUT_ORDER | ABOUT_VISIT),
    "appointment": (Appointment, ABOUT_APPOINTMENT | ABOUT_VISIT),
    "membership": (Membership, ABOUT_MEMBERSHIP),
    "visit": (Visit, ABOUT_VISIT),
}
OWN_NAMES = {
    "order": ABOUT_ORDER,
    "appointment": ABOUT_APPOINTMENT,
    "membership": ABOUT_MEMBERSHIP,
    "visit": ABOUT_VISIT,
}
"""The fields that the newest row of a kind gives, where the message is about none."""
_BOUGHT, _KEPT, _CAME = range(3)


@dataclass(frozen=True)
class Subject:
    """A row of the history: what it is (a key of ``SUBJECTS``) and its number."""

    kind: str
    id: int


def subject_of(key: str) -> Subject | None:
    """What brought somebody into a sequence, by the key of their run; ``None`` where it was nothing of these.

    Visits are numbered with what they are, three to a row (``core/sequences/event_rows.py``).
    """
    words, _, number = key.rpartition(" ")
    if words.startswith("renewal"):
        words, number = "membership", key.split(" ")[1]
    if not number.isdecimal():
        return None
    if words == "visit":
        row, what = divmod(int(number), 3)
        return Subject({_BOUGHT: "order", _KEPT: "appointment", _CAME: "visit"}[what], row)
    kind = "appointment" if words == "booking" else words.split(" ")[0]
    return Subject(kind, int(number)) if kind in SUBJECTS else None


def facts_at_hand(
    session: Session,
    deliveries: Sequence[Delivery],
    shop: Shop,
    now: datetime,
    asked: Collection[str],
) -> dict[int, Facts]:
    """By delivery the facts of what it is about; to be put over those of the person by ``put_over``."""
    about = {
        one.id: subject
        for one in deliveries
        if one.origin_kind == SEQUENCE and (subject := subject_of(one.occurrence))
    }
    whose = {one.id: one.person_id for one in deliveries}
    found: dict[int, Facts] = {}
    for kind, (table, names) in SUBJECTS.items():
        ids = {subject.id for subject in about.values() if subject.kind == kind}
        if not ids or not names & set(asked):
            continue
        rows = {row.id: row for row in session.scalars(select(table).where(table.id.in_(ids)))}  # type: ignore[attr-defined]
        words = Words(session, shop, now, rows.values())
        for delivery_id, subject in about.items():
            if subject.kind != kind:
                continue
            row = rows.get(subject.id)
            # a row that was given to somebody else since is not theirs to read of
            is_theirs = row is not None and row.person_id == whose[delivery_id]  # type: ignore[attr-defined]
            found[delivery_id] = dict.fromkeys(names) | (words.of(row) if is_theirs else {})
    return found


def put_over(facts: Mapping[str, object], at_hand: Mapping[str, object]) -> Facts:
    """The facts of a person with those of what the message is about in the place of their newest.

    What that lacks (``None``) is missing, not taken from another order.
    """
    merged = {**facts, **at_hand}
    return {name: fact for name, fact in merged.items() if fact is not None}


def order_of(session: Session, delivery: Delivery, now: datetime) -> Order | None:
    """The order that a delivery is about, else the person's newest."""
    subject = subject_of(delivery.occurrence) if delivery.origin_kind == SEQUENCE else None
    if subject is not None and subject.kind == "order":
        order = session.get(Order, subject.id)
        if order is not None and order.person_id == delivery.person_id:
            return order
    newest = select(Order).where(Order.person_id == delivery.person_id, Order.placed_at <= now)
    return session.scalars(newest.order_by(Order.placed_at.desc(), Order.id.desc()).limit(1)).first()


def newest_facts(
    session: Session, kind: str, ids: Sequence[int], shop: Shop, now: datetime
) -> dict[int, Facts]:
    """By person the facts of their newest order, visit or membership, or of their next appointment."""
    rows = {row.person_id: row for row in _newest(session, kind, ids, shop, now)}
    words, names = Words(session, shop, now, rows.values()), OWN_NAMES[kind]
    return {
        person_id: {name: fact for name, fact in words.of(row).items() if name in names}
        for person_id, row in rows.items()
    }


def _newest(session: Session, kind: str, ids: Sequence[int], shop: Shop, now: datetime) -> list[Any]:
    """The rows with the one that counts last for each person."""
    if kind == "order":
        # only the newest of each: a good customer has hundreds
        last = (
            select(Order.person_id, func.max(Order.placed_at).label("at"))
            .where(Order.person_id.in_(ids), Order.placed_at <= now)
            .group_by(Order.person_id)
            .subquery()
        )
        same = (Order.person_id == last.c.person_id) & (Order.placed_at == last.c.at)
        return list(session.scalars(select(Order).join(last, same).order_by(Order.id)))
    if kind == "visit":
        return _visits(session, ids, now)
    if kind == "membership":
        today = local_day(now, shop.zone)
        held = select(Membership).where(Membership.person_id.in_(ids), Membership.started_on <= today)
        rows = session.scalars(held.order_by(Membership.started_on))
        return [one for one in rows if one.ended_on is None or one.ended_on >= today]
    booked = select(Appointment).where(
        Appointment.person_id.in_(ids), Appointment.state == "booked", Appointment.starts_at > now
    )
    return list(session.scalars(booked.order_by(Appointment.starts_at.desc())))


def _visits(session: Session, ids: Sequence[int], now: datetime) -> list[Any]:
    """Of everybody the last time they came in, however it is on file."""
    last: dict[int, tuple[datetime, Any]] = {}
    came: tuple[tuple[Any, Any, Any], ...] = (
        (Visit, Visit.at, Visit.at.is_not(None)),
        (Order, Order.placed_at, Order.in_person & Order.cancelled_at.is_(None)),
        (Appointment, Appointment.starts_at, Appointment.state == "kept"),
    )
    for table, at, more in came:
        newest = (
            select(table.person_id, func.max(at).label("at"))
            .where(table.person_id.in_(ids), at <= now, more)
            .group_by(table.person_id)
            .subquery()
        )
        same = (table.person_id == newest.c.person_id) & (at == newest.c.at) & more
        for row, when in session.execute(select(table, at).join(newest, same)).tuples():
            if row.person_id not in last or when > last[row.person_id][0]:
                last[row.person_id] = when, row
    return [row for _, row in last.values()]


class Words:
    """Rows of one kind in words, with the names that they lean on read once."""

    def __init__(self, session: Session, shop: Shop, now: datetime, rows: Iterable[Any]) -> None:
        self.session, self.shop, self.now = session, shop, now
        self.rows = list(rows)
        self.names: dict[type[Base], dict[int, str]] = {}
        orders = [row.id for row in self.rows if isinstance(row, Order)]
        self.lines: Lines = lines_of(session, orders) if orders else {}

    def of(self, row: Any) -> Facts:
        makers: dict[type[Any], Callable[[Any], Facts]] = {
            Order: self._order,
            Appointment: self._appointment,
            Membership: self._membership,
        }
        made = makers.get(type(row), self._visit)(row)
        said = {name: one_line(value) if isinstance(value, str) else value for name, value in made.items()}
        return {name: value for name, value in said.items() if value not in (None, "")}

    def _name(self, table: type[Any], row_id: int | None) -> str:
        if table not in self.names:
            self.names[table] = dict(self.session.execute(select(table.id, table.name)).all())
        return self.names[table].get(row_id or 0, "")

    def _place(self, row: Any) -> str:
        return self._name(Location, row.location_id) or self._name(Department, row.department_id)

    def _day(self, instant: datetime) -> str:
        return say_date(local_day(instant, self.shop.zone))

    def _money(self, minor: int) -> str:
        return say_money(minor, self.shop.currency, country=self.shop.country)

    def _order(self, order: Order) -> Facts:
        lines = self.lines.get(order.id, ())
        return {
            "order_number": order.external_id or str(order.id),
            "order_lines": ", ".join(say_line(name, quantity) for name, quantity, _ in lines),
            "order_item": max(lines, key=lambda line: line[2])[0] if lines else None,
            "order_total": self._money(order.total_minor),
            "order_discount": self._money(order.discount_minor) if order.discount_minor else None,
            "order_status": status_of(order),
            "order_on": self._day(order.placed_at),
            "order_place": self._place(order),
            "order_tracking": order.tracking_code,
            "tracking_url": order.tracking_url,
            **(self._came(order, order.placed_at) if order.in_person else {}),
        }

    def _appointment(self, one: Appointment) -> Facts:
        return {
            "appointment_on": say_weekday(local_day(one.starts_at, self.shop.zone)),
            "appointment_at": say_clock(one.starts_at.astimezone(ZoneInfo(self.shop.zone))),
            "appointment_for": self._name(Item, one.item_id),
            "appointment_place": self._place(one),
            "appointment_with": self._name(Staff, one.staff_id),
            "appointment_whom": one.companion,
            **(self._came(one, one.starts_at) if one.state == "kept" else {}),
        }

    def _membership(self, one: Membership) -> Facts:
        return {
            "membership_plan": one.plan,
            "membership_term": one.term,
            "membership_price": None if one.price_minor is None else self._money(one.price_minor),
            "membership_since": say_date(one.started_on),
            "renews_on": say_date(one.renews_on) if one.renews_on else None,
        }

    def _visit(self, one: Visit) -> Facts:
        return self._came(one, one.at)

    def _came(self, row: Any, at: datetime) -> Facts:
        """A visit is a purchase in the shop and a kept appointment too."""
        return {
            "visit_on": self._day(at),
            "visit_place": self._place(row),
            "visit_with": self._name(Staff, row.staff_id),
        }


def lines_of(session: Session, orders: Sequence[int]) -> dict[int, list[tuple[str, int, int]]]:
    """By order its lines in turn: item’s name, quantity in thousandths, money in minor units."""
    query = (
        select(OrderLine.order_id, Item.name, OrderLine.quantity, OrderLine.total_minor)
        .outerjoin(Item, Item.id == OrderLine.item_id)
        .where(OrderLine.order_id.in_(orders))
        .order_by(OrderLine.id)
    )
    found: dict[int, list[tuple[str, int, int]]] = {}
    for order_id, name, quantity, minor in session.execute(query):
        found.setdefault(order_id, []).append((name or "Other", quantity, minor))
    return found


def say_line(name: str, quantity: int) -> str:
    """``quantity`` in thousandths."""
    return name if quantity == 1000 else f"{quantity / 1000:g} × {name}"


def status_of(order: Order) -> str:
    """The last that is known of it, in one word."""
    if order.cancelled_at:
        return "cancelled"
    if order.refunded_minor and order.refunded_minor >= order.total_minor:
        return "refunded"
    reached = [name for name in ("delivered", "shipped", "confirmed") if getattr(order, f"{name}_at")]
    return reached[0] if reached else "placed"
