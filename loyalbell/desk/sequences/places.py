"""Everybody's place in the sequences, between the rows of the book and the positions of the engine."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import bindparam, update
from sqlalchemy.orm import Session

from loyalbell.core.sequences.step import UNDER_WAY, Position
from loyalbell.store.tables import Enrolment

COLUMNS = (
    Enrolment.id, Enrolment.sequence_id, Enrolment.version_id, Enrolment.person_id, Enrolment.key, Enrolment.entered_at,
    Enrolment.due_at, Enrolment.step, Enrolment.anchor_at, Enrolment.settled, Enrolment.tried_at, Enrolment.sent,
    Enrolment.trail,
)  # fmt: skip


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
    at, sequence, version, person, key, entered, due, step, anchor, settled, tried, sent, trail = row
    position = Position(
        entered=int(entered.timestamp()), due=int(due.timestamp()), step=step, anchor=int(anchor.timestamp()),
        settled=settled, tried=seconds(tried), sent=tuple(sent.split(",")) if sent else (),
    )  # fmt: skip
    return Place(at, sequence, version, person, key, position, list(trail or ()))


_WRITE = (
    update(Enrolment)
    .where(Enrolment.id == bindparam("at"))
    .values(
        state=bindparam("state_"), cause=bindparam("cause_"), step=bindparam("step_"), due_at=bindparam("due"),
        settled=bindparam("settled_"), tried_at=bindparam("tried"), sent=bindparam("sent_"), trail=bindparam("trail_"),
        ended_at=bindparam("ended"),
    )
)  # fmt: skip


def write(session: Session, places: list[Place], now: datetime) -> None:
    """Keeps where everybody stands now."""
    if places:
        session.connection().execute(_WRITE, [_values(one, now) for one in places])


def _values(place: Place, now: datetime) -> Mapping[str, Any]:
    position = place.position
    under_way = position.state == UNDER_WAY
    return {
        "at": place.id,
        "state_": position.state,
        "cause_": position.cause,
        "step_": position.step,
        "due": instant(position.due) if under_way else None,
        "settled_": position.settled,
        "tried": None if position.tried is None else instant(position.tried),
        "sent_": ",".join(position.sent),
        "trail_": place.trail,
        "ended": None if under_way else now,
    }
