"""Whether somebody can be reached on a channel."""

from typing import Any, Literal

from loyalbell.core.channels import CHANNELS, Channel
from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import CONSENT_STATES
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part


class ReachCondition(Part):
    """Whether somebody can be reached: has an address, agreed, is not suppressed."""

    about: Literal["reach"] = "reach"
    channel: Channel = "email"
    can: bool = True


def meets(line: Any, context: EvaluationContext) -> Mask:
    reach = context.snapshot.reachable(CHANNELS.index(line.channel), context.now)
    return reach if line.can else ~reach


def say(line: ReachCondition, saying: Saying) -> str:
    return f"can{'' if line.can else 'not'} be reached by {line.channel}"


def fact(line: ReachCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    snapshot, now = context.snapshot, context.now
    channel = CHANNELS.index(line.channel)
    if not snapshot.people.has_address[number, channel]:
        return "no address"
    if snapshot.suppressed(channel, now)[number]:
        return "suppressed"
    return CONSENT_STATES[int(snapshot.consent_states(channel, now)[number])]


CONDITION = ConditionType(ReachCondition, meets, say, fact=fact, rows="consent")
