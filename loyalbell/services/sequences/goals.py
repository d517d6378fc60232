"""The goal of a sequence that rings: those who got a message beside those who were held back."""

from dataclasses import dataclass

from sqlalchemy import func, select

from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.goal import GoalStand, goal_stand
from loyalbell.core.sequences.plan import Plan
from loyalbell.services.application import Application
from loyalbell.services.sequences.shop_policy import send_policy_of
from loyalbell.storage.schema import Delivery, Enrolment, Shop


@dataclass(frozen=True)
class Stands:
    """``treated`` from their first message on.

    ``came_in`` and ``held_back``, to be compared, from coming in.
    """

    treated: GoalStand
    came_in: GoalStand
    held_back: GoalStand


def goal_of(application: Application, sequence_id: int, plan: Plan) -> Stands | None:
    """``None`` where the plan has no goal. Raises ``RuleProblem``."""
    goal = plan.goal
    if goal is None:
        return None
    snapshot, now = application.snapshot(), application.clock.now()
    with application.database.reading() as session:
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        first = session.execute(
            select(Delivery.person_id, func.min(Delivery.sent_at))
            .where(
                Delivery.origin_kind == SEQUENCE,
                Delivery.origin_id == sequence_id,
                Delivery.sent_at.is_not(None),
            )
            .group_by(Delivery.person_id, Delivery.occurrence)
        ).all()
        enrolments = session.execute(
            select(Enrolment.person_id, Enrolment.entered_at, Enrolment.state).where(
                Enrolment.sequence_id == sequence_id,
                Enrolment.state != "kept out",
                Enrolment.entered_at <= now,
            )
        ).all()
    back = [(who, when) for who, when, state in enrolments if state == "held back"]
    came_in = [(who, when) for who, when, state in enrolments if state != "held back"]
    numbers = {person: number for number, person in enumerate(snapshot.people.ids.tolist())}
    at = int(now.timestamp())
    begun = [
        [(numbers[who], int(when.timestamp())) for who, when in some if who in numbers and when is not None]
        for some in (first, came_in, back)
    ]
    earliest = min((when for some in begun for _, when in some), default=at)
    rows = SequenceHistory(snapshot, policy, earliest - 1, at).event_rows(goal.event_filter)
    treated, let_in, held_back = (goal_stand(rows, some, goal.days, at) for some in begun)
    return Stands(treated, let_in, held_back)
