"""Who came into a segment and left it since a day."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.segments.model import Rule
from loyalbell.services.application import Application
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.segments.queries import Member


@dataclass(frozen=True)
class Movement:
    """How a rule's people changed between an instant and now.

    ``came`` and ``left`` are numbers in the ledger.
    """

    then: int
    now: int
    came: Ints
    left: Ints


def movement(application: Application, rule: Rule, since: datetime) -> Movement:
    """Who has come in and left since an instant. Raises ``RuleProblem``."""
    _, after = segment_queries.who(application, rule)
    _, before = segment_queries.who(application, rule, since)
    return Movement(
        int(before.sum()), int(after.sum()), np.flatnonzero(after & ~before), np.flatnonzero(before & ~after)
    )


def members(application: Application, numbers: Ints, skip: int, limit: int) -> list[Member]:
    return segment_queries.members(application, application.snapshot(), numbers[skip : skip + limit])


def keep(application: Application, name: str, numbers: Ints, by: str) -> int:
    """A fixed segment of these people. Returns its id. Raises ``SegmentProblem``."""
    return segment_commands.keep_fixed(
        application, name, tuple(int(one) for one in application.snapshot().people.ids[numbers]), by
    )
