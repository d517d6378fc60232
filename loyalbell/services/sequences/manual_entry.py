"""What a person decides about single people in a sequence: bringing in, moving on, taking out, putting
back.
"""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.clock.pacing import Pace
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.delivery_state import WITHHELD
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.walk import UNDER_WAY
from loyalbell.services.application import Application
from loyalbell.services.delivery.outbox import become_all
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.services.sequences.enrolment import bring
from loyalbell.services.sequences.shop_policy import live_version, send_policy_of
from loyalbell.services.sequences.withdrawal import delivery_at
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment, SequenceVersion, Shop


def bring_by_hand(
    application: Application,
    sequence_id: int,
    people: list[int],
    pace: Pace | None,
    by: str,
    start: datetime | None = None,
    key: str = "",
) -> int:
    """Brings chosen people in, at once or paced, now or from ``start`` on; each person once for a ``key``.

    Returns how many came in or were kept out with a reason. Raises ``SequenceProblem``.
    """
    snapshot, key = application.snapshot(), key or f"by hand {application.clock.now().isoformat()}"
    with application.database.transaction() as session:
        return bring_in(application, session, snapshot, sequence_id, people, key, by, pace, start)


def bring_in(
    application: Application,
    session: Session,
    snapshot: HistorySnapshot,
    sequence_id: int,
    people: list[int],
    key: str,
    by: str,
    pace: Pace | None = None,
    start: datetime | None = None,
) -> int:
    """Each person once for a ``key``. Raises ``SequenceProblem`` where it does not ring."""
    now = application.clock.now()
    sequence = session.get(schema.Sequence, sequence_id)
    live = live_version(session, sequence) if sequence is not None else None
    if sequence is None or sequence.state != "live" or live is None:
        raise SequenceProblem("People can be added to a sequence that is on. Publish it first.")
    known = SequenceHistory(
        snapshot, send_policy_of(session, session.get_one(Shop, 1), now), until=int(now.timestamp())
    )
    count = bring(session, sequence, tree_of(read_plan(live.plan)), known, people, key, start or now, pace)
    application.note(session, by, "added people to a sequence", sequence=sequence.name, people=count)
    return count


def move_person(application: Application, enrolment_id: int, to: str, by: str) -> None:
    """Moves one person: ``on`` to the next step, ``out`` of the sequence, ``back`` in where they were.

    Raises ``SequenceProblem``.
    """
    now = application.clock.now()
    with application.database.transaction() as session:
        one = session.get_one(Enrolment, enrolment_id)
        if to == "out" and one.state == UNDER_WAY:
            one.state, one.cause, one.due_at, one.ended_at = "taken out", f"by {by}", None, now
            one.awaits = ""
        elif to == "back" and one.state in ("taken out", "left") and one.step is not None:
            one.state, one.cause, one.due_at, one.ended_at = UNDER_WAY, None, now, None
        elif to == "on" and one.state == UNDER_WAY:
            version = session.get_one(SequenceVersion, one.version_id)
            node = tree_of(read_plan(version.plan)).nodes.get(one.step or "")
            one.trail = [*one.trail, [one.step, int(now.timestamp()), f"moved on by {by}"]]
            if one.awaits:
                become_all(session, delivery_at(one), WITHHELD, cause="moved on")
            one.step, one.settled, one.tried_at, one.due_at = node.after if node else None, False, None, now
            one.awaits = ""
        else:
            raise SequenceProblem("This person has moved on in the meantime. Load the page again.")
        application.note(session, by, f"moved somebody {to}", sequence=one.sequence_id, person=one.person_id)


def that_ring(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the sequences that ring."""
    query = select(schema.Sequence.id, schema.Sequence.name).where(schema.Sequence.state == "live")
    with application.database.reading() as session:
        return [(at, name) for at, name in session.execute(query.order_by(schema.Sequence.name))]
