"""What was skipped because its time had passed: summed up on Today until a person has seen it."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import WITHHELD
from loyalbell.services.application import Application
from loyalbell.storage.schema import Campaign, Delivery, Message, MessageVersion, Person, Sequence, Setting

SHOWN_FOR = timedelta(days=14)
MOST_SHOWN = 500
SEEN = "skipped seen"


@dataclass(frozen=True)
class Skipped:
    """``person`` did not get ``message`` of ``of`` (with its address ``link``), which was due ``due_at``."""

    person: Person
    message: str
    of: str
    link: str
    due_at: datetime


@dataclass(frozen=True)
class SkippedSum:
    messages: int
    people: int
    first: datetime
    last: datetime


def _unseen(session: Session, now: datetime) -> ColumnElement[bool]:
    kept = session.get(Setting, SEEN)
    seen = int(kept.value.get("until", 0)) if kept is not None else 0
    return (
        (Delivery.state == WITHHELD)
        & (Delivery.cause == "too late")
        & (Delivery.due_at > now - SHOWN_FOR)
        & (Delivery.id > seen)
    )


def skipped_sum(session: Session, now: datetime) -> SkippedSum | None:
    """What has not been seen yet of the past fortnight; ``None`` for nothing."""
    count, people, first, last = session.execute(
        select(
            func.count(),
            func.count(func.distinct(Delivery.person_id)),
            func.min(Delivery.due_at),
            func.max(Delivery.due_at),
        ).where(_unseen(session, now))
    ).one()
    return SkippedSum(count, people, first, last) if count else None


def skipped(application: Application) -> tuple[SkippedSum | None, list[Skipped]]:
    """The sum, and the messages, the newest first."""
    now = application.clock.now()
    with application.database.reading() as session:
        rows = session.execute(
            select(Delivery, Person, Message.name)
            .join(Person, Person.id == Delivery.person_id)
            .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
            .join(Message, Message.id == MessageVersion.message_id)
            .where(_unseen(session, now))
            .order_by(Delivery.due_at.desc(), Delivery.id.desc())
            .limit(MOST_SHOWN)
        ).all()
        sequences = dict(session.execute(select(Sequence.id, Sequence.name)).all())
        campaigns = dict(session.execute(select(Campaign.id, Campaign.name)).all())
        found = [
            Skipped(person, message, *_of(delivery, sequences, campaigns), delivery.due_at)
            for delivery, person, message in rows
        ]
        return skipped_sum(session, now), found


def _of(delivery: Delivery, sequences: dict[int, str], campaigns: dict[int, str]) -> tuple[str, str]:
    if delivery.origin_kind == "sequence":
        name = sequences.get(delivery.origin_id, "a deleted sequence")
        return name, f"/sequences/{delivery.origin_id}/live"
    return campaigns.get(delivery.origin_id, "a deleted campaign"), f"/results/{delivery.origin_id}"


def seen(application: Application, by: str) -> None:
    """A person has looked: what has been skipped until now is not shown again."""
    with application.database.transaction() as session:
        last = session.scalar(select(func.max(Delivery.id))) or 0
        kept = session.get(Setting, SEEN)
        if kept is None:
            session.add(Setting(name=SEEN, value={"until": last}))
        else:
            kept.value = {"until": last}
        application.note(session, by, "looked at what was skipped")
