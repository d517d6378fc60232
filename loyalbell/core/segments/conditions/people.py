"""A fixed list of people."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part


class PeopleCondition(Part):
    """A fixed list of people, by their ids."""

    about: Literal["people"] = "people"
    ids: tuple[int, ...] = Field(max_length=1_000_000)


def meets(line: PeopleCondition, context: EvaluationContext) -> Mask:
    return np.isin(context.snapshot.people.ids, np.array(line.ids, dtype=np.int64))


def say(line: PeopleCondition, saying: Saying) -> str:
    return f"are on a fixed list of {len(line.ids):,}"


CONDITION = ConditionType(PeopleCondition, meets, say)
