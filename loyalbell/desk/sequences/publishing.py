"""Making a draft the version that rings, and what that changes for whom; pausing, resuming, stopping."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.pacing import Pace
from loyalbell.core.sequences.check import must_fix
from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.plan import MessageStep, Plan, every_step, read_plan
from loyalbell.core.sequences.starts import beyond
from loyalbell.core.sequences.step import FINISHED, UNDER_WAY
from loyalbell.core.sequences.tree import tree_of
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences.editing import SequenceProblem, draft_of, mistakes
from loyalbell.desk.sequences.house import around_of, house_of
from loyalbell.desk.sequences.letting_in import bring
from loyalbell.desk.sequences.ringing import skip_due
from loyalbell.store import tables
from loyalbell.store.tables import Enrolment, SequenceVersion, Shop, Touch

LEAVES = "leaves"
AN_HOUR = timedelta(hours=1)


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


def change(desk: Desk, sequence_id: int) -> Change:
    now = desk.clock.now()
    with desk.book.reading() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        draft = draft_of(sequence)
        states = Counter(dict(session.execute(select(Enrolment.state, func.count()).where(Enrolment.sequence_id == sequence_id).group_by(Enrolment.state)).all()))  # fmt: skip
        here = _standing(session, sequence_id)
        live = _live(session, sequence)
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


def _live(session: Session, sequence: tables.Sequence) -> SequenceVersion | None:
    return session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None


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


def publish(desk: Desk, sequence_id: int, choices: Choices, by: str, normal: float | None = None) -> int:
    """Makes the draft ring. Returns the number of the version. Raises ``SequenceProblem`` and changes nothing."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        plan = draft_of(session.get_one(tables.Sequence, sequence_id))
    found = mistakes(desk, plan, sequence_id, choices.pace is not None)
    if must_fix(found):
        raise SequenceProblem(f"It cannot ring yet: {found[0].words}")
    what = change(desk, sequence_id)
    left_open = [step for step, people in what.gone.items() if people and step not in (choices.moves or {})]
    if left_open:
        raise SequenceProblem("Say where the people go who stand at a step that is no longer there.")
    ledger = desk.ledger()
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        if choices.at is not None and choices.at > now:
            sequence.goes_live_at = choices.at
            desk.note(
                session, by, "will publish a sequence", sequence=sequence.name, at=choices.at.isoformat()
            )
            return 0
        version = _new_version(session, sequence, plan, now, by)
        _move(session, sequence, version, plan, what, choices, now)
        first = sequence.state == "draft" or sequence.rings_since is None
        sequence.state, sequence.live_version_id, sequence.goes_live_at = "live", version.id, None
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
    if choices.finished_too and what.added:
        done = (Enrolment.sequence_id == sequence.id, Enrolment.state == FINISHED)
        session.execute(
            update(Enrolment).where(*done).values(
                state=UNDER_WAY, step=what.added[0], due_at=now, settled=False, tried_at=None, version_id=version.id, ended_at=None
            )
        )  # fmt: skip


def publish_due(desk: Desk, by: str = "the clock") -> int:
    """Publishes the drafts whose day has come; one that can no longer be published is said in the log."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        due = list(session.scalars(select(tables.Sequence.id).where(tables.Sequence.goes_live_at <= now)))
    for sequence_id in due:
        try:
            publish(desk, sequence_id, Choices(), by)
        except SequenceProblem as problem:
            with desk.book.writing() as session:
                sequence = session.get_one(tables.Sequence, sequence_id)
                sequence.goes_live_at = None
                desk.note(
                    session, by, "could not publish a sequence", sequence=sequence.name, why=str(problem)
                )
    return len(due)


def pause(desk: Desk, sequence_id: int, by: str) -> None:
    """Everybody keeps their place; nothing of it leaves until it is resumed."""
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        if sequence.state != "live":
            raise SequenceProblem("Only a sequence that rings can be paused.")
        sequence.state, sequence.paused_at = "paused", desk.clock.now()
        _withdraw(session, sequence_id)
        desk.note(session, by, "paused a sequence", sequence=sequence.name)


def _withdraw(session: Session, sequence_id: int) -> None:
    """Messages planned but not handed over wait with the sequence."""
    session.execute(
        update(Touch)
        .where(Touch.origin_kind == "sequence", Touch.origin_id == sequence_id, Touch.state == "planned")
        .values(state="paused")
    )


def waiting(desk: Desk, sequence_id: int) -> int:
    """Messages that would leave at once if the sequence were resumed now."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        live = _live(session, sequence)
        steps = [one.id for one in every_step(read_plan(live.plan).steps) if isinstance(one, MessageStep)] if live else []  # fmt: skip
        standing = session.scalar(
            select(func.count()).where(
                Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY, Enrolment.due_at <= now, Enrolment.step.in_(steps)
            )
        )  # fmt: skip
        planned = session.scalar(
            select(func.count()).where(
                Touch.origin_kind == "sequence", Touch.origin_id == sequence_id, Touch.state == "paused"
            )
        )
        return int(standing or 0) + int(planned or 0)


def resume(desk: Desk, sequence_id: int, still_wanted: bool, let_in: bool, by: str) -> None:
    """Rings again. ``still_wanted``: messages that came due meanwhile go out, else they are skipped.

    ``let_in``: those who crossed the start line meanwhile come in, else they stay out.
    """
    now = desk.clock.now()
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        if sequence.state != "paused":
            raise SequenceProblem("Only a paused sequence can be resumed.")
        overdue = update(Enrolment).where(
            Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY, Enrolment.due_at <= now
        )
        session.execute(overdue.values(due_at=now if still_wanted else now - AN_HOUR))
        if not still_wanted:
            skip_due(desk, session, sequence, now)
        values = (
            {"state": "planned", "due_at": now} if still_wanted else {"state": "withheld", "cause": "stopped"}
        )
        session.execute(
            update(Touch)
            .where(Touch.origin_kind == "sequence", Touch.origin_id == sequence_id, Touch.state == "paused")
            .values(**values)
        )
        if not let_in:
            sequence.looked_until = sequence.rings_since = now
        sequence.state, sequence.paused_at = "live", None
        desk.note(session, by, "resumed a sequence", sequence=sequence.name, waiting_messages="sent" if still_wanted else "skipped")  # fmt: skip


def stop_all(desk: Desk, sequence_id: int, by: str) -> int:
    """Ends it for everybody, with a record of where each stood. Returns how many were under way."""
    now = desk.clock.now()
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        done = session.execute(
            update(Enrolment)
            .where(Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY)
            .values(state="taken out", cause="the sequence was stopped", due_at=None, ended_at=now)
        )
        session.execute(
            update(Touch)
            .where(Touch.origin_kind == "sequence", Touch.origin_id == sequence_id, Touch.state.in_(("planned", "held", "paused")))
            .values(state="withheld", cause="stopped")
        )  # fmt: skip
        sequence.state, sequence.goes_live_at = "stopped", None
        count = int(done.rowcount)  # type: ignore[attr-defined]
        desk.note(session, by, "stopped a sequence", sequence=sequence.name, people=count)
        return count


def bring_by_hand(desk: Desk, sequence_id: int, people: list[int], pace: Pace | None, by: str) -> int:
    """Brings chosen people in, at once or paced. Returns how many came in or were kept out with a reason."""
    now, ledger = desk.clock.now(), desk.ledger()
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        live = _live(session, sequence)
        if sequence.state != "live" or live is None:
            raise SequenceProblem("People can be brought into a sequence that rings. Publish it first.")
        known = Known(ledger, house_of(session, session.get_one(Shop, 1), now), until=int(now.timestamp()))
        key = f"by hand {now.isoformat()}"
        count = bring(session, sequence, tree_of(read_plan(live.plan)), known, people, key, now, pace)
        desk.note(session, by, "brought people into a sequence", sequence=sequence.name, people=count)
        return count


def move_person(desk: Desk, enrolment_id: int, to: str, by: str) -> None:
    """Moves one person: ``on`` to the next step, ``out`` of the sequence, ``back`` in where they were. Raises ``SequenceProblem``."""
    now = desk.clock.now()
    with desk.book.writing() as session:
        one = session.get_one(Enrolment, enrolment_id)
        if to == "out" and one.state == UNDER_WAY:
            one.state, one.cause, one.due_at, one.ended_at = "taken out", f"by {by}", None, now
        elif to == "back" and one.state in ("taken out", "left") and one.step is not None:
            one.state, one.cause, one.due_at, one.ended_at = UNDER_WAY, None, now, None
        elif to == "on" and one.state == UNDER_WAY:
            version = session.get_one(SequenceVersion, one.version_id)
            node = tree_of(read_plan(version.plan)).nodes.get(one.step or "")
            one.trail = [*one.trail, [one.step, int(now.timestamp()), f"moved on by {by}"]]
            one.step, one.settled, one.tried_at, one.due_at = node.after if node else None, False, None, now
        else:
            raise SequenceProblem("That cannot be done where this person stands now. Load the page again.")
        desk.note(session, by, f"moved somebody {to}", sequence=one.sequence_id, person=one.person_id)


def that_ring(desk: Desk) -> list[tuple[int, str]]:
    """(id, name) of the sequences that ring."""
    query = select(tables.Sequence.id, tables.Sequence.name).where(tables.Sequence.state == "live")
    with desk.book.reading() as session:
        return [(at, name) for at, name in session.execute(query.order_by(tables.Sequence.name))]
