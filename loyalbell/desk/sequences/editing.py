"""A sequence's draft: kept, checked, copied, taken out and brought in as JSON."""

from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.ledger import CHANNELS
from loyalbell.core.messages.content import read_content
from loyalbell.core.messages.preflight import MUST
from loyalbell.core.sequences.check import Mistake, Surroundings, check
from loyalbell.core.sequences.plan import MessageStep, OnEvent, Plan, every_step, read_plan
from loyalbell.core.sequences.starts import beyond
from loyalbell.desk.channel_settings import CareSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.findings import findings_of_all
from loyalbell.desk.letters import newest_version
from loyalbell.desk.sequences.acts import new_key
from loyalbell.desk.sequences.house import around_of, house_of, live_plans, quiet_of
from loyalbell.store import tables
from loyalbell.store.tables import CustomField, Department, Message, Offer, Segment, Shop, Tag

LONGEST_NAME = 120


class SequenceProblem(Exception):
    """Why something cannot be done with a sequence, in words."""


def draft_of(sequence: tables.Sequence) -> Plan:
    return read_plan(sequence.draft)


def keep(
    desk: Desk, sequence_id: int | None, name: str, plan: Plan, by: str, seen_at: datetime | None = None
) -> int:
    """Keeps a draft; the live version goes on as it is. Raises ``SequenceProblem``.

    ``seen_at`` is when the page that saves was read: a draft somebody else has changed since is not overwritten.
    """
    name = " ".join(name.split())
    if not name:
        raise SequenceProblem("Give the sequence a name, so that you find it again.")
    if len(name) > LONGEST_NAME:
        raise SequenceProblem(f"The name is too long; {LONGEST_NAME} characters at most.")
    now = desk.clock.now()
    with desk.book.writing() as session:
        taken = session.scalar(
            select(tables.Sequence.id).where(func.lower(tables.Sequence.name) == name.lower())
        )
        if taken is not None and taken != sequence_id:
            raise SequenceProblem(f"There is a sequence called “{name}” already. Choose another name.")
        sequence = session.get(tables.Sequence, sequence_id) if sequence_id else None
        if sequence is None:
            sequence = tables.Sequence(name=name, key=new_key(), made_at=now, by=by, draft={}, state="draft")
            sequence.rank = int(session.scalar(select(func.max(tables.Sequence.rank))) or 0) + 1
            session.add(sequence)
        elif seen_at is not None and sequence.changed_at > seen_at:
            raise SequenceProblem(
                f"{sequence.by} has changed this draft since you opened it. Open it again; yours is not kept."
            )
        sequence.name, sequence.draft = name, plan.model_dump(mode="json")
        sequence.changed_at, sequence.by = now, by
        session.flush()
        desk.note(session, by, "saved a sequence", sequence=name)
        return sequence.id


def mistakes(desk: Desk, plan: Plan, sequence_id: int = 0, paced: bool = False) -> list[Mistake]:
    """What the check says of a plan, with the book around it."""
    asked = {
        one.message
        for one in every_step(plan.steps)
        if isinstance(one, MessageStep) and one.message is not None
    }
    with desk.book.reading() as session:
        return check(plan, surroundings(desk, session, plan, asked, sequence_id, paced))


def surroundings(desk: Desk, session: Session, plan: Plan, asked: set[int], sequence_id: int, paced: bool) -> Surroundings:  # fmt: skip
    shop, now = desk.the_shop(), desk.clock.now()
    care = CareSettings.load(session)
    live = live_plans(session)
    return Surroundings(
        messages={at: found for at in asked if (found := _message(desk, session, at)) is not None},
        lacking={},
        offers=frozenset(session.scalars(select(Offer.id).where(Offer.archived_at.is_(None)))),
        tags=frozenset(session.scalars(select(Tag.id))),
        fields=frozenset(session.scalars(select(CustomField.id))),
        segments=frozenset(session.scalars(select(Segment.id))),
        sequences=frozenset(sequence.id for sequence, _ in live),
        quiet=quiet_of(care, shop, (now.year, now.year + 1)),
        agreed=_agreed(desk, now),
        same_event=tuple(
            sequence.name for sequence, other in live if sequence.id != sequence_id and _same(plan, other)
        ),
        paced=paced,
        itself=sequence_id,
    )


def _same(plan: Plan, other: Plan) -> bool:
    """Two that greet the same event: an order of any kind meets every narrower one, unless one is for the others."""
    mine, theirs = plan.start, other.start
    if mine.on != theirs.on or mine.on == "hand":
        return False
    if isinstance(mine, OnEvent) and isinstance(theirs, OnEvent):
        one, two = mine.happening, theirs.happening
        if one.what != two.what or one.others != two.others or (one.nth or two.nth) != (two.nth or one.nth):
            return False
        narrow: list[tuple[set[Any], set[Any]]] = [
            (set(one.items), set(two.items)),
            (set(one.departments), set(two.departments)),
            (set(one.categories), set(two.categories)),
        ]
        return (
            one.tag == two.tag and one.event == two.event and all(not a or not b or a & b for a, b in narrow)
        )
    return mine == theirs


def _message(
    desk: Desk, session: Session, message_id: int
) -> tuple[str, bool, dict[str, tuple[str, ...]]] | None:
    """Its name, whether it is marketing, and by channel what must be fixed in it."""
    message = session.get(Message, message_id)
    if message is None:
        return None
    content = read_content(newest_version(session, message_id).content)
    marketing = message.purpose != "service"
    wrong: dict[str, tuple[str, ...]] = {
        channel: tuple(
            found.words
            for found in findings_of_all(desk, content, [channel], marketing)
            if found.level == MUST
        )
        for channel in content.channels()
    }
    return message.name, marketing, wrong


def _agreed(desk: Desk, now: datetime) -> dict[str, float]:
    ledger, at = desk.ledger(), int(now.timestamp())
    here = ledger.on_file(at)
    size = max(int(here.sum()), 1)
    return {
        name: float((ledger.reachable(number, at) & here).sum() / size)
        for number, name in enumerate(CHANNELS)
    }


def beyond_count(desk: Desk, plan: Plan) -> int:
    """How many are already past the start line now."""
    with desk.book.reading() as session:
        around = around_of(session, house_of(session, session.get_one(Shop, 1), desk.clock.now()))
    return len(beyond(plan.start, desk.ledger(), int(desk.clock.now().timestamp()), around))


def archive(desk: Desk, sequence_id: int, by: str) -> None:
    """Puts a draft or a stopped sequence away. Raises ``SequenceProblem``."""
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        if sequence.state not in ("draft", "stopped"):
            raise SequenceProblem("Stop it first: people are under way in it.")
        sequence.archived_at = desk.clock.now()
        desk.note(session, by, "put a sequence away", sequence=sequence.name)


def change_rank(desk: Desk, sequence_id: int, up: bool, by: str) -> None:
    """Puts it before the one above it, or after the one below: where two meet, the upper one goes first."""
    with desk.book.writing() as session:
        kept = session.scalars(select(tables.Sequence).where(tables.Sequence.archived_at.is_(None)))
        order = sorted(kept, key=lambda one: (one.rank, one.id))
        at = next((place for place, one in enumerate(order) if one.id == sequence_id), None)
        to = None if at is None else at - 1 if up else at + 1
        if at is None or to is None or not 0 <= to < len(order):
            return
        order[at], order[to] = order[to], order[at]
        for rank, one in enumerate(order, start=1):
            one.rank = rank
        desk.note(session, by, "changed the order of sequences", sequence=order[to].name, place=to + 1)


def change_department(desk: Desk, sequence_id: int, department_id: int | None, by: str) -> None:
    """Whose sequence it is: it rests while the department is silent. Raises ``SequenceProblem``."""
    with desk.book.writing() as session:
        department = session.get(Department, department_id) if department_id else None
        if department_id and department is None:
            raise SequenceProblem("That department is no longer on file. Choose another.")
        sequence = session.get_one(tables.Sequence, sequence_id)
        sequence.department_id = department_id
        name = department.name if department else "the whole shop"
        desk.note(session, by, "changed whose sequence it is", sequence=sequence.name, department=name)
