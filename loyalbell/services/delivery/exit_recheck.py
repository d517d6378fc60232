"""A last look at a sequence's message before it leaves: the person may have left, or come back, since it was
planned.
"""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.sequences.event_rows import event_rows
from loyalbell.core.sequences.plan import Plan, read_plan
from loyalbell.storage.schema import Delivery, Enrolment, SequenceVersion

GONE = ("left", "taken out")


def exited_since(
    session: Session, snapshot: HistorySnapshot, deliveries: Sequence[Delivery], now: int
) -> dict[int, str]:
    """By touch id why it must not go: its person is out of the sequence, or a stop rule holds by now."""
    mine = [delivery for delivery in deliveries if delivery.origin_kind == SEQUENCE]
    if not mine:
        return {}
    people = {delivery.person_id for delivery in mine}
    enrolments = {
        (one.sequence_id, one.person_id, one.key): one
        for one in session.scalars(select(Enrolment).where(Enrolment.person_id.in_(people)))
    }
    plans: dict[int, Plan] = {}
    found: dict[int, str] = {}
    for delivery in mine:
        way = enrolments.get((delivery.origin_id, delivery.person_id, delivery.occurrence))
        if way is None or way.state in GONE:
            found[delivery.id] = "left"
            continue
        if way.version_id is not None and way.version_id not in plans:
            plans[way.version_id] = read_plan(session.get_one(SequenceVersion, way.version_id).plan)
        if way.version_id is not None and _stopped(plans[way.version_id], snapshot, way, now):
            found[delivery.id] = "left"
    return found


def _stopped(plan: Plan, snapshot: HistorySnapshot, way: Enrolment, now: int) -> bool:
    entered, number = int(way.entered_at.timestamp()), int(snapshot.people.ids.searchsorted(way.person_id))
    for stop in plan.exit_events:
        rows = event_rows(stop, snapshot, entered, now)
        if bool(((rows.person == number) & (rows.until > now)).any()):
            return True
    return False
