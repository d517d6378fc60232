"""Making a draft the version that rings, and what that changes for whom; pausing, resuming, stopping."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from pydantic import BaseModel, ValidationError
from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.pacing import NeverOpens, Pace
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.check import must_fix
from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.plan import Plan, every_step, read_plan
from loyalbell.core.sequences.starts import beyond
from loyalbell.core.sequences.step import FINISHED, UNDER_WAY
from loyalbell.core.sequences.tree import tree_of
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences.editing import SequenceProblem, draft_of, mistakes
from loyalbell.desk.sequences.house import around_of, house_of, live_version
from loyalbell.desk.sequences.letting_in import bring
from loyalbell.store import tables
from loyalbell.store.journal import mark_whole
from loyalbell.store.tables import Enrolment, SequenceVersion, Shop

LEAVES = "leaves"


@dataclass(frozen=True)
class Change:
    """What publishing a draft changes.

    ``gone`` are steps of the live version that the draft no longer has, with the people who stand at each;
    ``added`` are steps at the end that those who ``finished`` would not get; ``under_way`` are people by step.
    """

    live_number: int | None
    under_way: dict[str, int]
    gone: dict[str, int]
    added: list[str]
    finished: int
    left: int
    beyond: int


def change(desk: Desk, sequence_id: int, plan: Plan | None = None) -> Change:
    """Of its draft, or of another ``plan`` that is to ring in its place."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        draft = plan or draft_of(sequence)
        states = Counter(dict(session.execute(select(Enrolment.state, func.count()).where(Enrolment.sequence_id == sequence_id).group_by(Enrolment.state)).all()))  # fmt: skip
        here = _standing(session, sequence_id)
        live = live_version(session, sequence)
        house = house_of(session, session.get_one(Shop, 1), now)
        around = around_of(session, house)
    ids = [one.id for one in every_step(draft.steps)]
    old = [one.id for one in every_step(read_plan(live.plan).steps)] if live else []
    first = sequence.state == "draft"
    past = len(beyond(draft.start, desk.ledger(), int(now.timestamp()), around)) if first else 0
    return Change(
        live_number=live.number if live else None,
        under_way={step: count for step, count in here.items() if step in ids},
        gone={step: here.get(step, 0) for step in old if step not in ids},
        added=_added(draft, old) if live else [],
        finished=states[FINISHED],
        left=states["left"] + states["taken out"],
        beyond=past,
    )


def _standing(session: Session, sequence_id: int) -> dict[str, int]:
    query = (
        select(Enrolment.step, func.count())
        .where(
            Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY, Enrolment.step.is_not(None)
        )
        .group_by(Enrolment.step)
    )
    return {str(step): count for step, count in session.execute(query)}


def _added(draft: Plan, old: list[str]) -> list[str]:
    """The new steps that stand at the outermost end."""
    found: list[str] = []
    for step in reversed(draft.steps):
        if step.id in old:
            break
        found.insert(0, step.id)
    return found if len(found) < len(draft.steps) else []


@dataclass(frozen=True)
class Choices:
    """What the person who publishes has chosen.

    ``backlog``: whether those already beyond the line come in, ``pace`` how. ``moves``: for each step that is gone
    where its people go, a step's identity or ``leaves``. ``finished_too``: those who finished get the new last steps.
    ``at``: when, for a later publication.
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


def publish(desk: Desk, sequence_id: int, choices: Choices, by: str, normal: float | None = None) -> int:
    """Makes the draft ring, or puts it to wait for its day. Returns the number of the version, 0 while it waits.

    Raises ``SequenceProblem`` and changes nothing.
    """
    now = desk.clock.now()
    with desk.book.reading() as session:
        plan = draft_of(session.get_one(tables.Sequence, sequence_id))
    what = _can_ring(desk, sequence_id, plan, choices)
    if choices.at is None or choices.at <= now:
        return _publish(desk, sequence_id, plan, what, choices, by, normal)
    waiting = Waiting(plan=plan, choices=choices, by=by, normal=normal)
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        sequence.goes_live_at, sequence.goes_live_with = choices.at, waiting.model_dump(mode="json")
        sequence.publish_problem = None
        desk.note(session, by, "will publish a sequence", sequence=sequence.name, at=choices.at.isoformat())
    return 0


def _can_ring(desk: Desk, sequence_id: int, plan: Plan, choices: Choices) -> Change:
    """What it changes. Raises ``SequenceProblem`` where it cannot ring."""
    found = mistakes(desk, plan, sequence_id, choices.pace is not None)
    if must_fix(found):
        raise SequenceProblem(f"It cannot ring yet: {found[0].words}")
    what = change(desk, sequence_id, plan)
    if any(people and step not in (choices.moves or {}) for step, people in what.gone.items()):
        raise SequenceProblem("Say where the people go who stand at a step that is no longer there.")
    return what


def _publish(desk: Desk, sequence_id: int, plan: Plan, what: Change, choices: Choices, by: str, normal: float | None) -> int:  # fmt: skip
    now, ledger = desk.clock.now(), desk.ledger()
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        version = _new_version(session, sequence, plan, now, by)
        _move(session, sequence, version, plan, what, choices, now)
        first = sequence.state == "draft" or sequence.rings_since is None
        sequence.state, sequence.live_version_id, sequence.publish_problem = "live", version.id, None
        _no_longer_waiting(sequence)
        if first:
            sequence.rings_since = sequence.looked_until = now
        if normal is not None:
            sequence.normal = normal
        session.flush()
        if choices.backlog:
            house = house_of(session, session.get_one(Shop, 1), now)
            known = Known(ledger, house, until=int(now.timestamp()))
            past = beyond(plan.start, ledger, int(now.timestamp()), around_of(session, house))
            people = [known.ids[number] for number in past.tolist()]
            bring(session, sequence, tree_of(plan), known, people, "was beyond the line", now, choices.pace)
        desk.note(session, by, "published a sequence", sequence=sequence.name, version=version.number)
        return version.number


def _no_longer_waiting(sequence: tables.Sequence) -> None:
    sequence.goes_live_at, sequence.goes_live_with = None, None


def call_off(desk: Desk, sequence_id: int, by: str) -> None:
    """What was to ring from a later day will not."""
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        if sequence.goes_live_at is not None:
            _no_longer_waiting(sequence)
            desk.note(session, by, "will not publish a sequence", sequence=sequence.name)


def _new_version(
    session: Session, sequence: tables.Sequence, plan: Plan, now: datetime, by: str
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


def _move(session: Session, sequence: tables.Sequence, version: SequenceVersion, plan: Plan, what: Change, choices: Choices, now: datetime) -> None:  # fmt: skip
    """Everybody keeps their place by the step's identity; those at a step that is gone go where was chosen."""
    mine = (Enrolment.sequence_id == sequence.id, Enrolment.state == UNDER_WAY)
    for step, to in (choices.moves or {}).items():
        where = (*mine, Enrolment.step == step)
        if to == LEAVES:
            session.execute(update(Enrolment).where(*where).values(state="left", cause="its step was taken out", due_at=None, ended_at=now))  # fmt: skip
        else:
            session.execute(update(Enrolment).where(*where).values(step=to, settled=False, tried_at=None, due_at=now))  # fmt: skip
    session.execute(update(Enrolment).where(*mine).values(version_id=version.id))
    mark_whole(session, "ways")
    if choices.finished_too and what.added:
        done = (Enrolment.sequence_id == sequence.id, Enrolment.state == FINISHED)
        session.execute(
            update(Enrolment).where(*done).values(
                state=UNDER_WAY, step=what.added[0], due_at=now, settled=False, tried_at=None, version_id=version.id, ended_at=None
            )
        )  # fmt: skip


def publish_due(desk: Desk) -> int:
    """Publishes what waits for a day that has come, as it was confirmed. Returns how many ring now.

    One that can no longer be published, because of the book or of people who have moved on, asks for a person.
    """
    now, count = desk.clock.now(), 0
    with desk.book.reading() as session:
        due = list(session.scalars(select(tables.Sequence).where(tables.Sequence.goes_live_at <= now)))
    for sequence in due:
        try:
            waiting = Waiting.model_validate(sequence.goes_live_with)
            what = _can_ring(desk, sequence.id, waiting.plan, waiting.choices)
            _publish(desk, sequence.id, waiting.plan, what, waiting.choices, waiting.by, waiting.normal)
            count += 1
        except (SequenceProblem, RuleProblem, NeverOpens, ValidationError) as problem:
            why = "It was kept in a shape that is no longer known." if isinstance(problem, ValidationError) else str(problem)  # fmt: skip
            with desk.book.writing() as session:
                kept = session.get_one(tables.Sequence, sequence.id)
                _no_longer_waiting(kept)
                kept.publish_problem = why
                desk.note(session, "the clock", "could not publish a sequence", sequence=kept.name, why=why)
    return count
