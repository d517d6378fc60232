"""Everybody's place in the sequences, between the rows of the book and the positions of the engine.

Rows are read and written as the whole numbers that the book keeps, since the engine moves thousands of them a
second.
"""

import json
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Integer, Text, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.sequences.walk import ON_ITS_WAY, UNDER_WAY, Position
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
