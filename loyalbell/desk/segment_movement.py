"""Who came into a segment and left it since a day."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from loyalbell.core.columns import Ints
from loyalbell.core.segments.model import Rule
from loyalbell.desk import segments
from loyalbell.desk.desk import Desk
from loyalbell.desk.segments import Member


@dataclass(frozen=True)
class Movement:
    """How a rule's people changed between an instant and now; ``came`` and ``left`` are numbers in the ledger."""

    then: int
    now: int
    came: Ints
    left: Ints


def movement(desk: Desk, rule: Rule, since: datetime) -> Movement:
    """Who has come in and left since an instant. Raises ``RuleProblem``."""
    _, after = segments.who(desk, rule)
    _, before = segments.who(desk, rule, since)
    return Movement(
        int(before.sum()), int(after.sum()), np.flatnonzero(after & ~before), np.flatnonzero(before & ~after)
    )


def members(desk: Desk, numbers: Ints, skip: int, limit: int) -> list[Member]:
    return segments.members(desk, desk.ledger(), numbers[skip : skip + limit])


def keep(desk: Desk, name: str, numbers: Ints, by: str) -> int:
    """A fixed segment of these people. Returns its id. Raises ``SegmentProblem``."""
    return segments.keep_fixed(desk, name, tuple(int(one) for one in desk.ledger().people.ids[numbers]), by)
