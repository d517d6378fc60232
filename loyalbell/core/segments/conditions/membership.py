"""Plans, their terms and when they renew."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import NO_DAY
from loyalbell.core.segments.conditions.base import Comparison, ConditionType, ShortText
from loyalbell.core.segments.conditions.measuring import COMPARE, any_of
from loyalbell.core.segments.conditions.wording import Saying, join
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Part


class MembershipCondition(Part):
    """A membership that runs, by plan and term; ``renews in`` compares the days until it renews."""

    about: Literal["membership"] = "membership"
    state: Literal["runs", "has ended", "renews in", "none"] = "runs"
    plan: ShortText | None = None
    term: Literal["yearly", "quarterly", "monthly", "weekly", "once"] | None = None
    comparison: Comparison = "exactly"
    days: int = Field(default=3, ge=0, le=MOST_DAYS)


def meets(line: MembershipCondition, context: EvaluationContext) -> Mask:
    part, words = context.snapshot.memberships, context.snapshot.words
    kept = part.started <= context.today
    if line.plan is not None:
        kept &= part.plan == words.get(line.plan, -1)
    if line.term is not None:
        kept &= part.term == words.get(line.term, -1)
    ended = (part.ended != NO_DAY) & (part.ended < context.today)
    if line.state == "has ended":
        return any_of(part.person[kept & ended], context)
    runs = kept & ~ended
    if line.state == "runs":
        return any_of(part.person[runs], context)
    if line.state == "none":
        return ~any_of(part.person[runs], context)
    left = part.renews.astype(np.int64) - context.today
    renews = runs & (part.renews != NO_DAY) & (left >= 0)
    return any_of(part.person[renews & COMPARE[line.comparison](left, line.days)], context)


def say(line: MembershipCondition, saying: Saying) -> str:
    what = join(line.term or "", f"membership {line.plan}" if line.plan else "membership")
    if line.state == "none":
        return f"have no {what} that runs"
    if line.state == "has ended":
        return f"have had a {what} that has ended"
    if line.state == "renews in":
        return f"have a {what} that renews in {line.comparison} {line.days} days"
    return f"have a {what} that runs"


CONDITION = ConditionType(MembershipCondition, meets, say, rows="membership")
