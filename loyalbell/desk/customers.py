"""The customer book: finding people by words and rules, and what a line of the book shows of each."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.orm import Session

from loyalbell.core.rhythm.bands import PersonalRhythm
from loyalbell.core.segments.model import Rule
from loyalbell.desk.desk import Desk
from loyalbell.desk.rhythm import rhythms_of
from loyalbell.desk.segments import who
from loyalbell.store.person_search import find_ids, match_words
from loyalbell.store.records.custom_fields import say_field
from loyalbell.store.tables import (
    Appointment,
    CustomField,
    FieldValue,
    Order,
    Person,
    SavedView,
    Segment,
    Tag,
)
from loyalbell.store.tags import tag_names

PAGE = 50
BATCH = 500
COLUMNS = {
    "email": "Email",
    "phone": "Phone",
    "last_order": "Last order",
    "orders": "Orders, ever",
    "spent": "Spent, ever",
    "band": "Rhythm now",
    "next_appointment": "Next appointment",
    "tags": "Tags",
    "birthday": "Birthday",
    "city": "City",
    "joined": "Customer since",
}
USUAL = ("email", "phone", "last_order", "orders", "spent")


@dataclass(frozen=True)
class Filter:
    """Whom the book shows: people who hold every word of ``search`` and meet the rule, if there is one."""

    search: str = ""
    segment_id: int | None = None
    rule: Rule | None = None
    tag_id: int | None = None

    @property
    def narrows(self) -> bool:
        return bool(self.rule or self.segment_id or self.tag_id)


@dataclass(frozen=True)
class Line:
    """One person in the book; ``orders`` stand (not cancelled), ``spent`` is net minor units."""

    person: Person
    orders: int
    last_order: datetime | None
    spent: int
    tags: Sequence[str] = ()
    next_appointment: datetime | None = None
    rhythm: PersonalRhythm | None = None
    fields: dict[int, str] | None = None


def find(
    desk: Desk,
    search: str,
    after: int = 0,
    limit: int = PAGE,
    columns: Sequence[str] = (),
    whom: Filter | None = None,
) -> list[Line]:
    """People who hold every word of ``search``, or everyone, by id, beginning after ``after``."""
    whom = whom or Filter(search)
    ids = page_of_ids(desk, whom, after, limit)
    with desk.book.reading() as session:
        people = session.scalars(select(Person).where(Person.id.in_(ids)).order_by(Person.id))
        return _lines(desk, session, list(people), columns)


def page_of_ids(desk: Desk, whom: Filter, after: int, limit: int) -> list[int]:
    """The next ids that the filter lets through, ascending; reads no more than it needs."""
    meeting = _meeting(desk, whom)
    with desk.book.reading() as session:
        if not whom.search.strip():
            if meeting is None:
                return list(
                    session.scalars(
                        select(Person.id).where(Person.id > after).order_by(Person.id).limit(limit)
                    )
                )
            start = int(np.searchsorted(meeting, after, side="right"))
            return [int(one) for one in meeting[start : start + limit]]
        if not match_words(whom.search):
            return []
        if meeting is None:
            return find_ids(session, whom.search, after, limit)
        return _found_and_meeting(session, whom.search, meeting, after, limit)


def _found_and_meeting(session: Session, search: str, meeting: Any, after: int, limit: int) -> list[int]:
    kept: list[int] = []
    while len(kept) < limit:
        found = find_ids(session, search, after, BATCH)
        if not found:
            break
        kept += [one for one, meets in zip(found, np.isin(found, meeting), strict=True) if meets]
        after = found[-1]
    return kept[:limit]


def all_ids(desk: Desk, whom: Filter) -> list[int]:
    """Everyone the filter lets through."""
    return page_of_ids(desk, whom, 0, 10**9)


def _meeting(desk: Desk, whom: Filter) -> Any:
    """Ids of those who meet the rule, segment and tag, ascending; ``None`` where everybody does."""
    if not whom.narrows:
        return None
    ledger, now = desk.ledger(), desk.clock.now()
    mask = np.ones(len(ledger.people), dtype=np.bool_)
    for rule in (whom.rule, _segment_rule(desk, whom.segment_id)):
        if rule is not None:
            mask &= who(desk, rule, now)[1]
    if whom.tag_id:
        mask &= ledger.tagged(whom.tag_id, int(now.timestamp()))
    return ledger.people.ids[mask]


def _segment_rule(desk: Desk, segment_id: int | None) -> Rule | None:
    if segment_id is None:
        return None
    with desk.book.reading() as session:
        segment = session.get(Segment, segment_id)
        return Rule.model_validate(segment.rule) if segment else None


def how_many(desk: Desk, whom: Filter) -> int | None:
    """How many the filter lets through; ``None`` while words are searched for, which are not counted."""
    if whom.search.strip():
        return None
    meeting = _meeting(desk, whom)
    return count(desk) if meeting is None else len(meeting)


def count(desk: Desk) -> int:
    """How many people are on file."""
    with desk.book.reading() as session:
        return session.scalar(select(func.count()).select_from(Person)) or 0


def count_gone(desk: Desk) -> int:
    """How many people on file are closed or deceased by now; segments leave them out."""
    now = desk.clock.now()
    gone = (Person.closed_at <= now) | (Person.deceased_at <= now)
    with desk.book.reading() as session:
        return session.scalar(select(func.count()).select_from(Person).where(gone)) or 0


def find_people(session: Session, ids: Sequence[int]) -> list[Person]:
    return list(session.scalars(select(Person).where(Person.id.in_(ids)).order_by(Person.id)))


def columns_of(desk: Desk) -> dict[str, str]:
    """Every column the book can show, with its heading; the shop's own fields last."""
    with desk.book.reading() as session:
        fields = session.execute(select(CustomField.id, CustomField.name).order_by(CustomField.name))
        return COLUMNS | {f"field-{at}": name for at, name in fields}


def tags_of(desk: Desk) -> list[Tag]:
    with desk.book.reading() as session:
        return list(session.scalars(select(Tag).order_by(Tag.name)))


def _lines(desk: Desk, session: Session, people: list[Person], columns: Sequence[str]) -> list[Line]:
    ids = [person.id for person in people]
    rows = session.execute(
        select(
            Order.person_id,
            func.count(),
            func.max(Order.placed_at),
            func.sum(Order.total_minor - Order.refunded_minor),
        )
        .where(Order.person_id.in_(ids), stands())
        .group_by(Order.person_id)
    )
    sums = {person_id: (orders, last, spent) for person_id, orders, last, spent in rows}
    tags = tag_names(session, ids) if "tags" in columns else {}
    ahead = _appointments_ahead(session, ids, desk.clock.now()) if "next_appointment" in columns else {}
    rhythms = rhythms_of(desk, ids) if "band" in columns else {}
    fields = _field_values(session, ids) if any(name.startswith("field-") for name in columns) else {}
    return [
        Line(
            person,
            orders,
            last,
            spent,
            tags.get(person.id, ()),
            ahead.get(person.id),
            rhythms.get(person.id),
            fields.get(person.id),
        )
        for person in people
        for orders, last, spent in [sums.get(person.id) or (0, None, 0)]
    ]


def line_of(desk: Desk, session: Session, person: Person) -> Line:
    return _lines(desk, session, [person], ())[0]


def stands() -> ColumnElement[bool]:
    """Orders that count: neither cancelled nor refunded whole."""
    whole = (Order.refunded_minor > 0) & (Order.refunded_minor >= Order.total_minor)
    return Order.cancelled_at.is_(None) & ~whole


def _appointments_ahead(session: Session, ids: Sequence[int], now: datetime) -> dict[int, datetime]:
    rows = session.execute(
        select(Appointment.person_id, func.min(Appointment.starts_at))
        .where(Appointment.person_id.in_(ids), Appointment.state == "booked", Appointment.starts_at > now)
        .group_by(Appointment.person_id)
    )
    return {person_id: at for person_id, at in rows}


def _field_values(session: Session, ids: Sequence[int]) -> dict[int, dict[int, str]]:
    kinds = dict(session.execute(select(CustomField.id, CustomField.kind)).all())
    found: dict[int, dict[int, str]] = {}
    for value in session.scalars(
        select(FieldValue).where(FieldValue.person_id.in_(ids), FieldValue.until.is_(None))
    ):
        found.setdefault(value.person_id, {})[value.field_id] = say_field(kinds[value.field_id], value.value)
    return found


class CannotKeepView(Exception):
    """Why a view cannot be kept, in words."""


def views(desk: Desk) -> list[SavedView]:
    with desk.book.reading() as session:
        return list(session.scalars(select(SavedView).order_by(SavedView.name)))


def keep_view(desk: Desk, name: str, whom: Filter, columns: Sequence[str], by: str) -> int:
    """A view of the same name is replaced. Raises ``CannotKeepView``."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 80:
        raise CannotKeepView("Give the view a name of at most 80 characters.")
    with desk.book.writing() as session:
        view = session.scalar(select(SavedView).where(SavedView.name == name))
        if view is None:
            view = SavedView(name=name)
            session.add(view)
        view.search, view.segment_id, view.columns, view.by = whom.search, whom.segment_id, list(columns), by
        view.rule = whom.rule.model_dump(mode="json") if whom.rule else None
        session.flush()
        return view.id


def forget_view(desk: Desk, view_id: int) -> None:
    with desk.book.writing() as session:
        session.execute(delete(SavedView).where(SavedView.id == view_id))
