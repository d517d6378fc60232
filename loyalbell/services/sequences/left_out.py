"""People already past the line of a sequence that is on, who were never in it: they qualified before it
began, or came with a file later. They stay out unless somebody adds them.
"""

import numpy as np
from sqlalchemy import select

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.triggers import beyond
from loyalbell.services.application import Application
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.storage.schema import Enrolment, Shop


def left_out(application: Application, sequence_id: int, plan: Plan) -> Ints:
    """Person numbers, ascending; without those who were kept out with a reason, which stands on its page.

    Raises ``RuleProblem``.
    """
    snapshot, now = application.snapshot(), application.clock.now()
    with application.database.reading() as session:
        around = around_of(session, send_policy_of(session, session.get_one(Shop, 1), now))
        seen = select(Enrolment.person_id).where(Enrolment.sequence_id == sequence_id).distinct()
        known = np.fromiter(session.scalars(seen), dtype=np.int64)
    past = beyond(plan, snapshot, int(now.timestamp()), around)
    return past[~np.isin(snapshot.people.ids[past], known)]
