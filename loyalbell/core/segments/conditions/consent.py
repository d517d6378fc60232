"""What somebody said last about a channel."""

from typing import Any, Literal

import numpy as np

from loyalbell.core.channels import CHANNELS, Channel
from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import CONSENT_STATES
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part


class ConsentCondition(Part):
    """What somebody said last about a channel."""

    about: Literal["consent"] = "consent"
    channel: Channel = "email"
    state: Literal["agreed", "waiting", "refused", "never asked"] = "agreed"


def meets(line: Any, context: EvaluationContext) -> Mask:
    state = context.snapshot.consent_states(CHANNELS.index(line.channel), context.now)
    return np.equal(state, CONSENT_STATES.index(line.state))


def say(line: ConsentCondition, saying: Saying) -> str:
    said = {
        "agreed": "agreed to",
        "waiting": "were asked to confirm",
        "refused": "refused",
        "never asked": "were never asked about",
    }
    return f"{said[line.state]} {line.channel}"


def fact(line: ConsentCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    state = context.snapshot.consent_states(CHANNELS.index(line.channel), context.now)[number]
    return CONSENT_STATES[int(state)]


CONDITION = ConditionType(ConsentCondition, meets, say, fact=fact, rows="consent")
