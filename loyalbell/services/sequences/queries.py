"""What the pages ask about sequences: their list, who stands where, what is held, and names for the words of
a plan.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import HELD
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.sequences.plan import Plan, plan_or_none
from loyalbell.core.sequences.wording import Names
from loyalbell.services.application import Application
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, Enrolment, HeldBatch, Message, Offer, Person, SequenceVersion

UNDER_WAY = "under way"


def plan_names(application: Application) -> Names:
    """The names by which a plan's messages, offers, sequences and rules are called in words."""
    saying = segment_queries.saying(application, application.snapshot())
    with application.database.reading() as session:
        messages = select(Message.id, Message.name).where(~Message.hidden)
        return Names(
            saying,
            {at: name for at, name in session.execute(messages)},
            {at: name for at, name in session.execute(select(Offer.id, Offer.name))},
            {at: name for at, name in session.execute(select(schema.Sequence.id, schema.Sequence.name))},
        )


def in_order(application: Application) -> list[tuple[schema.Sequence, int]]:
    """The sequences by rank, each with how many people are under way; those put away are left out."""
    counted = (
        select(Enrolment.sequence_id, func.count())
        .where(Enrolment.state == UNDER_WAY)
        .group_by(Enrolment.sequence_id)
    )
    kept = (
        select(schema.Sequence)
        .where(schema.Sequence.archived_at.is_(None))
        .order_by(schema.Sequence.rank, schema.Sequence.id)
    )
    with application.database.reading() as session:
        under_way = {sequence_id: people for sequence_id, people in session.execute(counted)}
        return [(sequence, under_way.get(sequence.id, 0)) for sequence in session.scalars(kept)]


def live_names(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the sequences that are live, by name."""
    query = (
        select(schema.Sequence.id, schema.Sequence.name)
        .where(schema.Sequence.state == "live")
        .order_by(schema.Sequence.name)
    )
    with application.database.reading() as session:
        return [(sequence_id, name) for sequence_id, name in session.execute(query)]


def own_templates(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the sequences that others may be started from."""
    query = (
        select(schema.Sequence.id, schema.Sequence.name)
        .where(schema.Sequence.is_template, schema.Sequence.archived_at.is_(None))
        .order_by(schema.Sequence.name)
    )
    with application.database.reading() as session:
        return [(sequence_id, name) for sequence_id, name in session.execute(query)]


def name_of_a_copy(application: Application, name: str) -> str:
    """``Win-back 2`` for a copy of ``Win-back``: the first number that is free."""
    with application.database.reading() as session:
        taken = {one.lower() for one in session.scalars(select(schema.Sequence.name))}
    number = next(number for number in range(2, 10_000) if f"{name} {number}".lower() not in taken)
    return f"{name} {number}"


def live_version(application: Application, sequence: schema.Sequence) -> SequenceVersion | None:
    """The version that is live, paused or was stopped; ``None`` for what was never published."""
    if sequence.live_version_id is None:
        return None
    return application.find(SequenceVersion, sequence.live_version_id)


def live_plan(application: Application, sequence: schema.Sequence) -> Plan | None:
    """The plan of ``live_version``; ``None`` also where it cannot be read."""
    version = live_version(application, sequence)
    return plan_or_none(version.plan) if version else None


def people_under_way(application: Application, sequence_id: int) -> int:
    query = select(func.count()).where(Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY)
    with application.database.reading() as session:
        return session.scalar(query) or 0


@dataclass(frozen=True)
class LiveCounts:
    """``here``: people under way by step.

    ``deliveries``: (step, state, cause, how many). ``enrolments``: (state, cause, how many).
    ``held_batches``: how many batches wait for a person.
    """

    here: Mapping[str | None, int]
    deliveries: Sequence[tuple[str, str, str | None, int]]
    enrolments: Sequence[tuple[str, str | None, int]]
    held_batches: int


def live_counts(application: Application, sequence_id: int) -> LiveCounts:
    here = (
        select(Enrolment.step, func.count())
        .where(Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY)
        .group_by(Enrolment.step)
    )
    deliveries = (
        select(Delivery.step, Delivery.state, Delivery.cause, func.count())
        .where(Delivery.origin_kind == "sequence", Delivery.origin_id == sequence_id)
        .group_by(Delivery.step, Delivery.state, Delivery.cause)
    )
    enrolments = (
        select(Enrolment.state, Enrolment.cause, func.count())
        .where(Enrolment.sequence_id == sequence_id)
        .group_by(Enrolment.state, Enrolment.cause)
    )
    held = select(func.count()).where(
        HeldBatch.origin_kind == "sequence", HeldBatch.origin_id == sequence_id, HeldBatch.state == "held"
    )
    with application.database.reading() as session:
        return LiveCounts(
            {step: people for step, people in session.execute(here)},
            [(step, state, cause, count) for step, state, cause, count in session.execute(deliveries)],
            [(state, cause, count) for state, cause, count in session.execute(enrolments)],
            session.scalar(held) or 0,
        )


@dataclass(frozen=True)
class EnrolledPage:
    """``rows`` are of one page; ``count`` is of all."""

    rows: Sequence[tuple[Enrolment, Person]]
    count: int


def enrolled(
    application: Application, sequence_id: int, step: str, state: str, skip: int, limit: int
) -> EnrolledPage:
    """Who is or was in a sequence, the newest first.

    At one ``step`` under way, or in one ``state``, where given.
    """
    where: list[ColumnElement[bool]] = [Enrolment.sequence_id == sequence_id]
    if step:
        where += [Enrolment.step == step, Enrolment.state == UNDER_WAY]
    if state:
        where.append(Enrolment.state == state)
    query = (
        select(Enrolment, Person)
        .join(Person, Person.id == Enrolment.person_id)
        .where(*where)
        .order_by(Enrolment.entered_at.desc(), Enrolment.id)
        .offset(skip)
        .limit(limit)
    )
    with application.database.reading() as session:
        count = session.scalar(select(func.count()).where(*where)) or 0
        return EnrolledPage([(enrolment, person) for enrolment, person in session.execute(query)], count)


def enrolments_of(
    application: Application, person_id: int, limit: int
) -> list[tuple[Enrolment, schema.Sequence, Plan | None]]:
    """A person's runs through sequences, those under way first, then the newest.

    Who was kept out had none.
    """
    query = (
        select(Enrolment, schema.Sequence, SequenceVersion.plan)
        .join(schema.Sequence, schema.Sequence.id == Enrolment.sequence_id)
        .outerjoin(SequenceVersion, SequenceVersion.id == Enrolment.version_id)
        .where(Enrolment.person_id == person_id, Enrolment.state != "kept out")
        .order_by(Enrolment.state != UNDER_WAY, Enrolment.entered_at.desc())
        .limit(limit)
    )
    with application.database.reading() as session:
        return [
            (enrolment, sequence, plan_or_none(plan)) for enrolment, sequence, plan in session.execute(query)
        ]


def batches_waiting(application: Application) -> int:
    """How many held batches wait for a person."""
    with application.database.reading() as session:
        return session.scalar(select(func.count()).where(HeldBatch.state == "held")) or 0


def held_messages(application: Application) -> dict[int, int]:
    """By sequence how many of its messages wait for a person to approve them."""
    query = (
        select(Delivery.origin_id, func.count())
        .where(Delivery.origin_kind == SEQUENCE, Delivery.state == HELD)
        .group_by(Delivery.origin_id)
    )
    with application.database.reading() as session:
        return {sequence_id: count for sequence_id, count in session.execute(query)}


def held_batches(application: Application) -> list[tuple[HeldBatch, schema.Sequence | None, int, int]]:
    """Every batch, those that wait first, with its sequence, its messages and how many of them still wait."""
    query = select(HeldBatch).order_by(HeldBatch.state != "held", HeldBatch.id.desc())
    with application.database.reading() as session:
        return [
            (batch, session.get(schema.Sequence, batch.origin_id), *_counts(session, batch.id))
            for batch in session.scalars(query)
        ]


@dataclass(frozen=True)
class HeldBatchView:
    """``by_step``: (step, channel, messages). ``some``: a dozen of those who would get one."""

    batch: HeldBatch
    sequence: schema.Sequence
    total: int
    waiting: int
    by_step: Sequence[tuple[str, str, int]]
    some: Sequence[Person]


def held_batch(application: Application, batch_id: int, shown: int = 12) -> HeldBatchView | None:
    """One batch; while it is held only what still waits in it is counted."""
    with application.database.reading() as session:
        batch = session.get(HeldBatch, batch_id)
        if batch is None:
            return None
        looked_at = [Delivery.held_batch_id == batch_id]
        if batch.state == "held":
            looked_at.append(Delivery.state == HELD)
        by_step = (
            select(Delivery.step, Delivery.channel, func.count())
            .where(*looked_at)
            .group_by(Delivery.step, Delivery.channel)
        )
        some = (
            select(Person)
            .join(Delivery, Delivery.person_id == Person.id)
            .where(*looked_at)
            .order_by(Delivery.id)
            .limit(shown)
        )
        return HeldBatchView(
            batch,
            session.get_one(schema.Sequence, batch.origin_id),
            *_counts(session, batch_id),
            [(step, channel, count) for step, channel, count in session.execute(by_step)],
            list(session.scalars(some)),
        )


def _counts(session: Session, batch_id: int) -> tuple[int, int]:
    """How many messages were put into a batch, and how many of them still wait in it."""
    query = (
        select(Delivery.state, func.count())
        .where(Delivery.held_batch_id == batch_id)
        .group_by(Delivery.state)
    )
    counted = {state: count for state, count in session.execute(query)}
    return sum(counted.values()), counted.get(HELD, 0)
