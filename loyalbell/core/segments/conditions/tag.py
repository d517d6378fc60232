"""Tags that somebody carries."""

from typing import Literal

from loyalbell.core.history.columns import Mask
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying, say_named
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part


class TagCondition(Part):
    about: Literal["tag"] = "tag"
    tag: int
    has: bool = True


def meets(line: TagCondition, context: EvaluationContext) -> Mask:
    held = context.snapshot.tagged(line.tag, context.now)
    return held if line.has else ~held


def say(line: TagCondition, saying: Saying) -> str:
    return (
        f"{'carry' if line.has else 'do not carry'} the tag"
        f" {say_named(saying.catalogue.tags, line.tag, '').strip()}"
    )


CONDITION = ConditionType(TagCondition, meets, say)
