"""Everybody's place in the sequences, between the rows of the book and the positions of the engine.

Rows are read and written as the whole numbers that the book keeps, since the engine moves thousands of them a
second.
"""

import json
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import ColumnElement, Integer, Text, or_, select, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.sequences.walk import ON_ITS_WAY, UNDER_WAY, Position
from loyalbell.services.application import Application
from loyalbell.services.sequences.waiting_places import any_may_go_on
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment

COLUMNS = (
    Enrolment.id,
    Enrolment.sequence_id,
    Enrolment.version_id,
    Enrolment.person_id,
    Enrolment.key,
    type_coerce(Enrolment.entered_at, Integer),
    type_coerce(Enrolment.due_at, Integer),
    Enrolment.step,
    type_coerce(Enrolment.anchor_at, Integer),
    type_coerce(Enrolment.settled, Integer),
    type_coerce(Enrolment.tried_at, Integer),
    Enrolment.sent,
    type_coerce(Enrolment.trail, Text),
    Enrolment.awaits,
)


@dataclass(slots=True)
class Place:
    """One enrolment while the engine has it in hand."""

    id: int
    sequence: int
    version: int
    person: int
    key: str
    position: Position
    trail: list[Any] = field(default_factory=list)


def seconds(instant: datetime | None) -> int | None:
    return None if instant is None else int(instant.timestamp())


def instant(seconds_: int) -> datetime:
    return datetime.fromtimestamp(seconds_, UTC)


def place_of(row: Any) -> Place:
    at, sequence, version, person, key, entered, due, step, anchor, settled, tried, sent, trail, awaits = row
    steps = tuple(sent.split(",")) if sent else ()
    position = Position(entered, due or 0, step, anchor, bool(settled), tried, steps, awaits=awaits)
    return Place(
        at, sequence, version, person, key, position, json.loads(trail) if trail and trail != "[]" else []
    )


WRITE = (
    "UPDATE enrolment SET state = ?, cause = ?, step = ?, due_at = ?, settled = ?, tried_at = ?, sent = ?,"
    " awaits = ?, trail = ?, ended_at = ? WHERE id = ?"
)


def write(session: Session, places: list[Place], now: datetime) -> None:
    """Keeps where everybody stands now."""
    if places:
        session.connection().exec_driver_sql(
            WRITE, [_values(place, int(now.timestamp())) for place in places]
        )


def _values(place: Place, now: int) -> tuple[Any, ...]:
    _, due, step, _, settled, tried, sent, state, cause, awaits = place.position
    under_way = state == UNDER_WAY
    return (
        state,
        cause,
        step,
        due if under_way and awaits != ON_ITS_WAY else None,
        settled,
        tried,
        ",".join(sent),
        awaits if under_way else "",
        json.dumps(place.trail, ensure_ascii=False),
        None if under_way else now,
        place.id,
    )


def due_places(session: Session, now: datetime) -> tuple[ColumnElement[bool], ...]:
    """What makes an enrolment due: its time has come, and its sequence rings."""
    care = CareSettings.load(session)
    rings = select(schema.Sequence.id).where(schema.Sequence.state == "live")
    if care.silent_departments:
        department = schema.Sequence.department_id
        rings = rings.where(or_(department.is_(None), department.not_in(care.silent_departments)))
    return (Enrolment.state == UNDER_WAY, Enrolment.due_at <= now, Enrolment.sequence_id.in_(rings))


def all_due(application: Application, now: datetime) -> list[int]:
    """The enrolments that are due, in the order in which they are moved on; asked once, since to sort them
    anew for each batch would cost the square of their number.
    """
    with application.database.reading() as session:
        query = (
            select(Enrolment.id)
            .join(schema.Sequence, schema.Sequence.id == Enrolment.sequence_id)
            .where(*due_places(session, now))
            .order_by(Enrolment.due_at, schema.Sequence.rank, Enrolment.id)
        )
        return list(session.scalars(query))


def places_of(session: Session, due: list[int], now: datetime) -> list[Place]:
    """The places of those enrolments that are due still, in the order given."""
    query = select(*COLUMNS).where(Enrolment.id.in_(due), *due_places(session, now))
    # of the connection: the session would take twice as long for rows that are no mapped objects
    places = {row[0]: row for row in session.connection().execute(query)}
    return [place_of(places[enrolment]) for enrolment in due if enrolment in places]


def any_due(application: Application, now: datetime) -> bool:
    with application.database.reading() as session:
        due = session.scalar(select(Enrolment.id).where(*due_places(session, now)).limit(1)) is not None
        return due or any_may_go_on(session)
