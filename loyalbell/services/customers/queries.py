"""The customer book: finding people by words and rules, and what a line of the book shows of each."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.history.settled import worked_out
from loyalbell.core.rhythm.bands import PersonalRhythm
from loyalbell.core.segments.model import Rule
from loyalbell.services.application import Application
from loyalbell.services.rhythm.queries import rhythms_of
from loyalbell.services.segments.queries import who
from loyalbell.storage.person_search import find_ids, match_words
from loyalbell.storage.records.custom_fields import say_field
from loyalbell.storage.schema import (
    Appointment,
    CustomField,
    FieldValue,
    Order,
    Person,
    Segment,
    Tag,
)
from loyalbell.storage.tags import tag_names
from loyalbell.storage.yearly_names import yearly_names

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
    application: Application,
    search: str,
    after: int = 0,
    limit: int = PAGE,
    columns: Sequence[str] = (),
    whom: Filter | None = None,
) -> list[Line]:
    """People who hold every word of ``search``, or everyone, by id, beginning after ``after``."""
    whom = whom or Filter(search)
    ids = page_of_ids(application, whom, after, limit)
    with application.database.reading() as session:
        people = session.scalars(select(Person).where(Person.id.in_(ids)).order_by(Person.id))
        return _lines(application, session, list(people), columns)


def page_of_ids(application: Application, whom: Filter, after: int, limit: int) -> list[int]:
    """The next ids that the filter lets through, ascending; reads no more than it needs."""
    meeting = _meeting(application, whom)
    with application.database.reading() as session:
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


def all_ids(application: Application, whom: Filter) -> list[int]:
    """Everyone the filter lets through."""
    return page_of_ids(application, whom, 0, 10**9)


def _meeting(application: Application, whom: Filter) -> Any:
    """Ids of those who meet the rule, segment and tag, ascending; ``None`` where everybody does."""
    if not whom.narrows:
        return None
    snapshot, now = application.snapshot(), application.clock.now()
    mask = np.ones(len(snapshot.people), dtype=np.bool_)
    for rule in (whom.rule, _segment_rule(application, whom.segment_id)):
        if rule is not None:
            mask &= who(application, rule, now)[1]
    if whom.tag_id:
        mask &= snapshot.tagged(whom.tag_id, int(now.timestamp()))
    return snapshot.people.ids[mask]


def _segment_rule(application: Application, segment_id: int | None) -> Rule | None:
    if segment_id is None:
        return None
    with application.database.reading() as session:
        segment = session.get(Segment, segment_id)
        return Rule.model_validate(segment.rule) if segment else None


def how_many(application: Application, whom: Filter) -> int | None:
    """How many the filter lets through; ``None`` while words are searched for, which are not counted."""
    if whom.search.strip():
        return None
    meeting = _meeting(application, whom)
    return count(application) if meeting is None else len(meeting)


def count(application: Application) -> int:
    """How many people are on file."""
    with application.database.reading() as session:
        return session.scalar(select(func.count()).select_from(Person)) or 0


def count_gone(application: Application) -> int:
    """How many people on file are closed or deceased by now; segments leave them out."""
    now = application.clock.now()
    gone = (Person.closed_at <= now) | (Person.deceased_at <= now)
    with application.database.reading() as session:
        return session.scalar(select(func.count()).select_from(Person).where(gone)) or 0


def find_people(session: Session, ids: Sequence[int]) -> list[Person]:
    return list(session.scalars(select(Person).where(Person.id.in_(ids)).order_by(Person.id)))


def columns_of(application: Application) -> dict[str, str]:
    """Every column the book can show, with its heading; the shop's own fields last."""
    with application.database.reading() as session:
        fields = session.execute(select(CustomField.id, CustomField.name).order_by(CustomField.name))
        return COLUMNS | {f"field-{at}": name for at, name in fields}


def tags_of(application: Application) -> list[Tag]:
    with application.database.reading() as session:
        return list(session.scalars(select(Tag).order_by(Tag.name)))


def _lines(
    application: Application, session: Session, people: list[Person], columns: Sequence[str]
) -> list[Line]:
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
    ahead = (
        _appointments_ahead(session, ids, application.clock.now()) if "next_appointment" in columns else {}
    )
    rhythms = rhythms_of(application, ids) if "band" in columns else {}
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


def line_of(application: Application, session: Session, person: Person) -> Line:
    return _lines(application, session, [person], ())[0]


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


def kinds_of_events(application: Application) -> list[str]:
    """The kinds of site and app events that are on file, by name."""
    snapshot = application.snapshot()
    kinds = worked_out(snapshot.events, "kinds", lambda: np.unique(snapshot.events.kind))
    return sorted(snapshot.words.said[kind] for kind in kinds.tolist())


def names_of_yearly_dates(application: Application) -> list[str]:
    """The shop's own yearly dates, as they are called."""
    with application.database.reading() as session:
        return yearly_names(session)


def people_by_id(application: Application, ids: Iterable[int]) -> dict[int, Person]:
    """Those of the numbers who are on file."""
    wanted, people = list(ids), dict[int, Person]()
    with application.database.reading() as session:
        for start in range(0, len(wanted), BATCH):
            some = wanted[start : start + BATCH]
            people |= {one.id: one for one in session.scalars(select(Person).where(Person.id.in_(some)))}
    return people


def person_named(application: Application, named: str) -> Person | None:
    """Who is meant by a number, an email or a mobile; the first where several share it."""
    by_number = int(named) if named.isascii() and named.isdecimal() and len(named) < 10 else None
    with application.database.reading() as session:
        person = session.get(Person, by_number) if by_number is not None else None
        if person is not None:
            return person
        same = (func.lower(Person.email) == named.lower()) | (Person.phone == named)
        return session.scalar(select(Person).where(same).limit(1))


def one_found(application: Application, words: str) -> Person | None:
    """The only one found by a number or words; ``None`` for nobody, and for more than one."""
    by_number = words.isascii() and words.isdecimal() and len(words) < 10
    with application.database.reading() as session:
        ids = [int(words)] if by_number else find_ids(session, words, 0, 2)
        return session.get(Person, ids[0]) if len(ids) == 1 else None


def some_people(application: Application, ids: Sequence[int]) -> list[Person]:
    """The people with these numbers, as ``find_people`` orders them."""
    with application.database.reading() as session:
        return find_people(session, ids)
