"""A sequence's draft: kept, checked, copied, taken out and brought in as JSON."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select

from loyalbell.core.sequences.plan import Plan
from loyalbell.services.application import Application
from loyalbell.services.sequences.actions import new_key
from loyalbell.services.sequences.drafts import LONGEST_NAME, SequenceProblem
from loyalbell.storage import schema
from loyalbell.storage.schema import Department


def keep(
    application: Application,
    sequence_id: int | None,
    name: str,
    plan: Plan,
    by: str,
    seen_at: datetime | None = None,
) -> int:
    """Keeps a draft; the live version goes on as it is. Raises ``SequenceProblem``.

    ``seen_at`` is when the page that saves was read: a draft somebody else has changed since is not
    overwritten.
    """
    name = " ".join(name.split())
    if not name:
        raise SequenceProblem("Give the sequence a name, so that you find it again.")
    if len(name) > LONGEST_NAME:
        raise SequenceProblem(f"The name is too long; {LONGEST_NAME} characters at most.")
    now = application.clock.now()
    with application.database.transaction() as session:
        taken = session.scalar(
            select(schema.Sequence.id).where(func.lower(schema.Sequence.name) == name.lower())
        )
        if taken is not None and taken != sequence_id:
            raise SequenceProblem(f"There is a sequence called “{name}” already. Choose another name.")
        sequence = session.get(schema.Sequence, sequence_id) if sequence_id else None
        if sequence is None:
            sequence = schema.Sequence(name=name, key=new_key(), made_at=now, by=by, draft={}, state="draft")
            sequence.rank = int(session.scalar(select(func.max(schema.Sequence.rank))) or 0) + 1
            session.add(sequence)
        elif seen_at is not None and sequence.changed_at > seen_at:
            raise SequenceProblem(
                f"{sequence.by} has changed this draft since you opened it. Open it again; yours is not kept."
            )
        sequence.name, sequence.draft = name, plan.model_dump(mode="json")
        sequence.changed_at, sequence.by = now, by
        session.flush()
        application.note(session, by, "saved a sequence", sequence=name)
        return sequence.id


def archive(application: Application, sequence_id: int, by: str) -> None:
    """Puts a draft or a stopped sequence away. Raises ``SequenceProblem``."""
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        if sequence.state not in ("draft", "stopped"):
            raise SequenceProblem("Stop it first: people are under way in it.")
        sequence.archived_at = application.clock.now()
        application.note(session, by, "put a sequence away", sequence=sequence.name)


def change_rank(application: Application, sequence_id: int, up: bool, by: str) -> None:
    """Puts it before the one above it, or after the one below: where two meet, the upper one goes first."""
    with application.database.transaction() as session:
        kept = session.scalars(select(schema.Sequence).where(schema.Sequence.archived_at.is_(None)))
        order = sorted(kept, key=lambda one: (one.rank, one.id))
        at = next((place for place, one in enumerate(order) if one.id == sequence_id), None)
        to = None if at is None else at - 1 if up else at + 1
        if at is None or to is None or not 0 <= to < len(order):
            return
        order[at], order[to] = order[to], order[at]
        for rank, one in enumerate(order, start=1):
            one.rank = rank
        application.note(session, by, "changed the order of sequences", sequence=order[to].name, place=to + 1)


def offer_as_template(application: Application, sequence_id: int, is_template: bool, by: str) -> None:
    """Whether new sequences may be started from its draft."""
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        sequence.is_template = is_template
        words = "offered a sequence as a template" if is_template else "took a template away"
        application.note(session, by, words, sequence=sequence.name)


def put_in_order(application: Application, ids: Sequence[int], by: str) -> None:
    """Ranks the sequences as given; those that are not named keep their order after them."""
    place = {sequence_id: at for at, sequence_id in enumerate(ids)}
    with application.database.transaction() as session:
        kept = session.scalars(select(schema.Sequence).where(schema.Sequence.archived_at.is_(None)))
        order = sorted(kept, key=lambda one: (place.get(one.id, len(place)), one.rank, one.id))
        for rank, one in enumerate(order, start=1):
            one.rank = rank
        application.note(session, by, "changed the order of sequences", order=[one.name for one in order])


def change_department(application: Application, sequence_id: int, department_id: int | None, by: str) -> None:
    """Whose sequence it is: it rests while the department is silent. Raises ``SequenceProblem``."""
    with application.database.transaction() as session:
        department = session.get(Department, department_id) if department_id else None
        if department_id and department is None:
            raise SequenceProblem("That department is no longer on file. Choose another.")
        sequence = session.get_one(schema.Sequence, sequence_id)
        sequence.department_id = department_id
        name = department.name if department else "the whole shop"
        application.note(session, by, "changed whose sequence it is", sequence=sequence.name, department=name)
