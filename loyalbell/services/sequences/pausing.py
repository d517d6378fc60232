"""Pausing a sequence with everybody in their place, resuming it, and stopping it for all."""

from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.clock.zones import zone_of
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.delivery_state import PAUSED, WITHHELD
from loyalbell.core.sequences.plan import MessageStep, OnDate, Plan, every_step, plan_or_none
from loyalbell.core.sequences.starts import end_of_its_day
from loyalbell.core.sequences.walk import UNDER_WAY
from loyalbell.services.application import Application
from loyalbell.services.delivery.let_go import due_again, let_go
from loyalbell.services.delivery.outbox import become_all
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.services.sequences.runner import skip_due
from loyalbell.services.sequences.set_aside import SAID
from loyalbell.services.sequences.shop_policy import live_version
from loyalbell.services.sequences.withdrawal import deliveries_of, withdraw
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, Enrolment, Person, Shop

AN_HOUR = timedelta(hours=1)


def pause(application: Application, sequence_id: int, by: str) -> None:
    """Everybody keeps their place; nothing of it leaves until it is resumed."""
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        if sequence.state != "live":
            raise SequenceProblem("Only a sequence that is on can be paused.")
        sequence.state, sequence.paused_at = "paused", application.clock.now()
        withdraw(session, sequence_id)
        application.note(session, by, "paused a sequence", sequence=sequence.name)


def waiting(application: Application, sequence_id: int) -> int:
    """Messages that would leave at once if the sequence were resumed now."""
    now = application.clock.now()
    with application.database.reading() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        live = live_version(session, sequence)
        plan = plan_or_none(live.plan) if live else None
        steps = [one.id for one in every_step(plan.steps) if isinstance(one, MessageStep)] if plan else []
        standing = session.scalar(
            select(func.count()).where(
                Enrolment.sequence_id == sequence_id,
                Enrolment.state == UNDER_WAY,
                Enrolment.due_at <= now,
                Enrolment.step.in_(steps),
            )
        )
        planned = session.scalar(
            select(func.count()).where(
                Delivery.origin_kind == "sequence",
                Delivery.origin_id == sequence_id,
                Delivery.state == PAUSED,
            )
        )
        return int(standing or 0) + int(planned or 0)


def resume(application: Application, sequence_id: int, still_wanted: bool, let_in: bool, by: str) -> None:
    """Rings again. ``still_wanted``: messages that came due meanwhile go out, else they are skipped.

    ``let_in``: those who crossed the start line meanwhile come in, else they stay out. What is for a day
    keeps its time, and is too late once the day is over.
    """
    now, snapshot = application.clock.now(), application.snapshot()
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        if sequence.state != "paused":
            raise SequenceProblem("Only a paused sequence can be resumed.")
        live = live_version(session, sequence)
        plan = plan_or_none(live.plan) if live is not None else None
        if plan is None:
            raise SequenceProblem(
                "Its live version cannot be read. Publish its draft in its place, then resume it."
            )
        waiting = deliveries_of(sequence_id) & (Delivery.state == PAUSED)
        if still_wanted:
            _go_on(session, sequence, plan, now)
            let_go(session, session.scalars(select(Delivery).where(waiting)), now)
        else:
            overdue = update(Enrolment).where(*_overdue(sequence_id, now))
            session.execute(overdue.values(due_at=now - AN_HOUR))
            _skip_due(application, session, snapshot, sequence, now)
            become_all(session, waiting, WITHHELD, cause="stopped")
        if not let_in:
            sequence.looked_until = sequence.rings_since = now
        sequence.state, sequence.paused_at, sequence.set_aside_because = "live", None, None
        application.note(
            session,
            by,
            "resumed a sequence",
            sequence=sequence.name,
            waiting_messages="sent" if still_wanted else "skipped",
        )


def _overdue(sequence_id: int, now: datetime) -> tuple[ColumnElement[bool], ...]:
    return (Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY, Enrolment.due_at <= now)


def _go_on(session: Session, sequence: schema.Sequence, plan: Plan, now: datetime) -> None:
    """Who is overdue goes on now, but for those at something meant for a day: see ``let_go``."""
    overdue = _overdue(sequence.id, now)
    if not isinstance(plan.start, OnDate):
        session.execute(update(Enrolment).where(*overdue).values(due_at=now))
        return
    shop = session.get_one(Shop, 1)
    query = select(Enrolment, Person.zone).join(Person, Person.id == Enrolment.person_id).where(*overdue)
    for enrolment, zone in session.execute(query).all():
        end = end_of_its_day(plan.start, int(enrolment.anchor_at.timestamp()), zone_of(zone or shop.zone))
        assert enrolment.due_at is not None and end is not None
        enrolment.due_at = due_again(enrolment.due_at, datetime.fromtimestamp(end, UTC), now)


def _skip_due(
    application: Application,
    session: Session,
    snapshot: HistorySnapshot,
    sequence: schema.Sequence,
    now: datetime,
) -> None:
    try:
        skip_due(application, session, snapshot, sequence, now)
    except SAID as problem:
        raise SequenceProblem(f"It still cannot be carried out. {problem}") from problem


def stop_all(application: Application, sequence_id: int, by: str) -> int:
    """Ends it for everybody, with a record of where each stood. Returns how many were under way."""
    now = application.clock.now()
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        done = session.execute(
            update(Enrolment)
            .where(Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY)
            .values(state="taken out", cause="the sequence was stopped", due_at=None, ended_at=now, awaits="")
        )
        become_all(session, deliveries_of(sequence_id), WITHHELD, cause="stopped")
        sequence.state, sequence.goes_live_at = "stopped", None
        count = int(done.rowcount)  # type: ignore[attr-defined]
        application.note(session, by, "stopped a sequence", sequence=sequence.name, people=count)
        return count
