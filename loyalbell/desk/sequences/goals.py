"""The goal of a sequence that rings: those who got a message beside those who were held back."""

from dataclasses import dataclass

from sqlalchemy import func, select

from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.goal import GoalStand, goal_stand
from loyalbell.core.sequences.plan import Plan
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences.acts import SEQUENCE
from loyalbell.desk.sequences.house import house_of
from loyalbell.store.tables import Enrolment, Shop, Touch


@dataclass(frozen=True)
class Stands:
    """``treated`` from their first message on; ``came_in`` and ``held_back``, to be compared, from coming in."""

    treated: GoalStand
    came_in: GoalStand
    held_back: GoalStand


def goal_of(desk: Desk, sequence_id: int, plan: Plan) -> Stands | None:
    """``None`` where the plan has no goal. Raises ``RuleProblem``."""
    goal = plan.goal
    if goal is None:
        return None
    ledger, now = desk.ledger(), desk.clock.now()
    with desk.book.reading() as session:
        house = house_of(session, session.get_one(Shop, 1), now)
        first = session.execute(
            select(Touch.person_id, func.min(Touch.sent_at))
            .where(Touch.origin_kind == SEQUENCE, Touch.origin_id == sequence_id, Touch.sent_at.is_not(None))
            .group_by(Touch.person_id, Touch.occurrence)
        ).all()
        ways = session.execute(
            select(Enrolment.person_id, Enrolment.entered_at, Enrolment.state).where(
                Enrolment.sequence_id == sequence_id,
                Enrolment.state != "kept out",
                Enrolment.entered_at <= now,
            )
        ).all()
    back = [(who, when) for who, when, state in ways if state == "held back"]
    came_in = [(who, when) for who, when, state in ways if state != "held back"]
    numbers = {person: number for number, person in enumerate(ledger.people.ids.tolist())}
    at = int(now.timestamp())
    begun = [
        [(numbers[who], int(when.timestamp())) for who, when in some if who in numbers and when is not None]
        for some in (first, came_in, back)
    ]
    earliest = min((when for some in begun for _, when in some), default=at)
    rows = Known(ledger, house, earliest - 1, at).happened(goal.happening)
    treated, let_in, held_back = (goal_stand(rows, some, goal.days, at) for some in begun)
    return Stands(treated, let_in, held_back)
