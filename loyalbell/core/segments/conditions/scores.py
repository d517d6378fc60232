"""Scores of recency and frequency."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.rhythm.rfm import grid
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part

Score = Annotated[int, Field(ge=1, le=5)]


class ScoresCondition(Part):
    """Recency and frequency scores from 1 to 5, 5 best, as pairs of which one must hold."""

    about: Literal["scores"] = "scores"
    cells: tuple[tuple[Score, Score], ...] = Field(min_length=1, max_length=25)


def meets(line: ScoresCondition, context: EvaluationContext) -> Mask:
    found = grid(context.snapshot, context.now)
    met = np.zeros(context.size, dtype=np.bool_)
    for recency, frequency in line.cells:
        met |= (found.recency == recency) & (found.frequency == frequency)
    return met


def say(line: ScoresCondition, saying: Saying) -> str:
    cells = ", ".join(f"{recency} and {frequency}" for recency, frequency in line.cells[:6])
    more = f" and {len(line.cells) - 6} more" if len(line.cells) > 6 else ""
    return f"score {cells}{more} of 5 for how lately and how often they bought"


CONDITION = ConditionType(ScoresCondition, meets, say)
