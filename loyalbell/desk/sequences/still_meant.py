"""A last look at a sequence's message before it leaves: the person may have left, or come back, since it was planned."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.ledger import Ledger
from loyalbell.core.sequences.happenings import happened
from loyalbell.core.sequences.plan import Plan, read_plan
from loyalbell.store.tables import Enrolment, SequenceVersion, Touch

SEQUENCE = "sequence"
GONE = ("left", "taken out")


def no_longer_meant(session: Session, ledger: Ledger, touches: Sequence[Touch], now: int) -> dict[int, str]:
    """By touch id why it must not go: its person is out of the sequence, or a stop rule holds by now."""
    mine = [touch for touch in touches if touch.origin_kind == SEQUENCE]
    if not mine:
        return {}
    people = {touch.person_id for touch in mine}
    ways = {
        (one.sequence_id, one.person_id, one.key): one
        for one in session.scalars(select(Enrolment).where(Enrolment.person_id.in_(people)))
    }
    plans: dict[int, Plan] = {}
    found: dict[int, str] = {}
    for touch in mine:
        way = ways.get((touch.origin_id, touch.person_id, touch.occurrence))
        if way is None or way.state in GONE:
            found[touch.id] = "left"
            continue
        if way.version_id is not None and way.version_id not in plans:
            plans[way.version_id] = read_plan(session.get_one(SequenceVersion, way.version_id).plan)
        if way.version_id is not None and _stopped(plans[way.version_id], ledger, way, now):
            found[touch.id] = "left"
    return found


def _stopped(plan: Plan, ledger: Ledger, way: Enrolment, now: int) -> bool:
    entered, number = int(way.entered_at.timestamp()), int(ledger.people.ids.searchsorted(way.person_id))
    for stop in plan.stops:
        rows = happened(stop, ledger, entered, now)
        if bool(((rows.person == number) & (rows.until > now)).any()):
            return True
    return False
