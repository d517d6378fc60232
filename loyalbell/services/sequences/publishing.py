"""Making a draft the version that rings, and what that changes for whom; pausing, resuming, stopping."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import islice

from pydantic import BaseModel, ValidationError
from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.clock.pacing import NeverOpens, Pace, instants
from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.check import must_fix
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.triggers import beyond
from loyalbell.core.sequences.walk import FINISHED, UNDER_WAY
from loyalbell.services.application import Application
from loyalbell.services.sequences.drafts import SequenceProblem, draft_of, mistakes
from loyalbell.services.sequences.enrolment import BEYOND, bring
from loyalbell.services.sequences.publishing_preview import LEAVES, Change, change
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment, SequenceVersion, Shop


@dataclass(frozen=True)
class Choices:
    """What the person who publishes has chosen.

    ``backlog``: whether those already beyond the line come in, ``pace`` how. ``moves``: for each step that is
    gone where its people go, a step's identity or ``leaves``. ``finished_too``: those who finished get the
    new last steps. ``at``: when, for a later publication.
    """

    backlog: bool = False
    pace: Pace | None = None
    moves: Mapping[str, str] | None = None
    finished_too: bool = False
    at: datetime | None = None


class Waiting(BaseModel):
    """What is to ring from a later day, as it was confirmed: later changes to the draft are not in it."""

    plan: Plan
    choices: Choices
    by: str
    normal: float | None = None
    by_weekday: list[float] = []


def publish(
    application: Application,
    sequence_id: int,
    choices: Choices,
    by: str,
    normal: float | None = None,
    by_weekday: Sequence[float] = (),
) -> int:
    """Makes the draft ring, or puts it to wait for its day.

    Returns the number of the version, 0 while it waits.

    Raises ``SequenceProblem`` and changes nothing.
    """
    now = application.clock.now()
    with application.database.reading() as session:
        plan = draft_of(session.get_one(schema.Sequence, sequence_id))
    what = _can_ring(application, sequence_id, plan, choices)
    if choices.at is None or choices.at <= now:
        return _publish(application, sequence_id, plan, what, choices, by, normal, by_weekday)
    waiting = Waiting(plan=plan, choices=choices, by=by, normal=normal, by_weekday=list(by_weekday))
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        sequence.goes_live_at, sequence.goes_live_with = choices.at, waiting.model_dump(mode="json")
        sequence.publish_problem = None
        application.note(
            session, by, "will publish a sequence", sequence=sequence.name, at=choices.at.isoformat()
        )
    return 0


def _can_ring(application: Application, sequence_id: int, plan: Plan, choices: Choices) -> Change:
    """What it changes. Raises ``SequenceProblem`` where it cannot ring."""
    found = mistakes(application, plan, sequence_id, choices.pace is not None)
    if must_fix(found):
        raise SequenceProblem(f"It cannot start yet: {found[0].words}")
    what = change(application, sequence_id, plan)
    if any(people and step not in (choices.moves or {}) for step, people in what.gone.items()):
        raise SequenceProblem("Choose where the people go whose step was removed.")
    return what


def _publish(
    application: Application,
    sequence_id: int,
    plan: Plan,
    what: Change,
    choices: Choices,
    by: str,
    normal: float | None,
    by_weekday: Sequence[float],
) -> int:
    now, snapshot = application.clock.now(), application.snapshot()
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        version = _new_version(session, sequence, plan, now, by)
        _move(session, sequence, version, plan, what, choices, now)
        first = sequence.state == "draft" or sequence.rings_since is None
        if sequence.state != "paused":  # resuming it asks what becomes of the messages that waited
            sequence.state = "live"
        sequence.live_version_id, sequence.publish_problem, sequence.set_aside_because = (
            version.id,
            None,
            None,
        )
        _no_longer_waiting(sequence)
        if first:
            sequence.rings_since = sequence.looked_until = now
        if normal is not None:
            sequence.normal, sequence.by_weekday = normal, list(by_weekday)
        session.flush()
        if choices.backlog:
            policy = send_policy_of(session, session.get_one(Shop, 1), now)
            known = SequenceHistory(snapshot, policy, until=int(now.timestamp()))
            past = beyond(plan, snapshot, int(now.timestamp()), around_of(session, policy))
            people = [known.ids[number] for number in past.tolist()]
            bring(session, sequence, tree_of(plan), known, people, BEYOND, now, choices.pace)
            if choices.pace is not None:
                sequence.let_in = _let_in(choices.pace, len(people), now, snapshot.zone)
        application.note(session, by, "published a sequence", sequence=sequence.name, version=version.number)
        return version.number


def _let_in(pace: Pace, people: int, now: datetime, zone: str) -> dict[str, int]:
    """By local day (ISO) how many people a paced backlog lets in: what was confirmed is no alarm."""
    days: Counter[str] = Counter()
    kept = zone_of(zone)
    batches = -(-people // pace.batch)
    for number, at in enumerate(islice(instants(int(now.timestamp()), pace, kept), batches)):
        day = day_of(kept.day(at)).isoformat()
        days[day] += min(pace.batch, people - number * pace.batch)
    return dict(days)


def _no_longer_waiting(sequence: schema.Sequence) -> None:
    sequence.goes_live_at, sequence.goes_live_with = None, None


def call_off(application: Application, sequence_id: int, by: str) -> None:
    """What was to ring from a later day will not."""
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        if sequence.goes_live_at is not None:
            _no_longer_waiting(sequence)
            application.note(session, by, "will not publish a sequence", sequence=sequence.name)


def _new_version(
    session: Session, sequence: schema.Sequence, plan: Plan, now: datetime, by: str
) -> SequenceVersion:
    last = session.scalar(
        select(func.max(SequenceVersion.number)).where(SequenceVersion.sequence_id == sequence.id)
    )
    version = SequenceVersion(
        sequence_id=sequence.id,
        number=(last or 0) + 1,
        plan=plan.model_dump(mode="json"),
        published_at=now,
        by=by,
    )
    session.add(version)
    session.flush()
    return version


def _move(
    session: Session,
    sequence: schema.Sequence,
    version: SequenceVersion,
    plan: Plan,
    what: Change,
    choices: Choices,
    now: datetime,
) -> None:
    """Everybody keeps their place by the step's identity.

    Those at a step that is gone go where was chosen.
    """
    mine = (Enrolment.sequence_id == sequence.id, Enrolment.state == UNDER_WAY)
    for step, to in (choices.moves or {}).items():
        where = (*mine, Enrolment.step == step)
        if to == LEAVES:
            session.execute(
                update(Enrolment)
                .where(*where)
                .values(state="left", cause="its step was taken out", due_at=None, ended_at=now, awaits="")
            )
        else:
            session.execute(
                update(Enrolment)
                .where(*where)
                .values(step=to, settled=False, tried_at=None, due_at=now, awaits="")
            )
    session.execute(update(Enrolment).where(*mine).values(version_id=version.id))
    if choices.finished_too and what.added:
        done = (Enrolment.sequence_id == sequence.id, Enrolment.state == FINISHED)
        session.execute(
            update(Enrolment)
            .where(*done)
            .values(
                state=UNDER_WAY,
                step=what.added[0],
                due_at=now,
                settled=False,
                tried_at=None,
                version_id=version.id,
                ended_at=None,
            )
        )


def publish_due(application: Application) -> int:
    """Publishes what waits for a day that has come, as it was confirmed. Returns how many ring now.

    One that can no longer be published, because of the book or of people who have moved on, asks for a
    person.
    """
    now, count = application.clock.now(), 0
    with application.database.reading() as session:
        due = list(session.scalars(select(schema.Sequence).where(schema.Sequence.goes_live_at <= now)))
    for sequence in due:
        try:
            waiting = Waiting.model_validate(sequence.goes_live_with)
            what = _can_ring(application, sequence.id, waiting.plan, waiting.choices)
            _publish(
                application,
                sequence.id,
                waiting.plan,
                what,
                waiting.choices,
                waiting.by,
                waiting.normal,
                waiting.by_weekday,
            )
            count += 1
        except (SequenceProblem, RuleProblem, NeverOpens, ValidationError) as problem:
            why = (
                "It was kept in a shape that is no longer known."
                if isinstance(problem, ValidationError)
                else str(problem)
            )
            with application.database.transaction() as session:
                kept = session.get_one(schema.Sequence, sequence.id)
                _no_longer_waiting(kept)
                kept.publish_problem = why
                application.note(
                    session, "the clock", "could not publish a sequence", sequence=kept.name, why=why
                )
    return count
