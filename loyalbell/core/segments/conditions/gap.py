"""How long somebody usually stays away."""

from typing import Any, Literal

import numpy as np
from pydantic import Field, model_validator

from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.rhythm.bands import own_medians
from loyalbell.core.rhythm.return_curve import Part as ShopPart
from loyalbell.core.rhythm.return_curve import buying_days, came_days
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.measuring import as_mask
from loyalbell.core.segments.conditions.wording import Saying, join, say_named
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Part


class GapCondition(Part):
    """The usual gap in days between somebody's own visits or orders: the median, counted where there are
    ``fewest`` or more.
    """

    about: Literal["gap"] = "gap"
    what: Literal["orders", "visits"] = "orders"
    low: int = Field(default=35, ge=1, le=MOST_DAYS)
    high: int = Field(default=49, ge=1, le=MOST_DAYS)
    fewest: int = Field(default=3, ge=2, le=1_000)
    department: int | None = None

    @model_validator(mode="after")
    def _in_order(self) -> "GapCondition":
        if self.high < self.low:
            raise ValueError("the longest gap is shorter than the shortest")
        return self


def meets(line: GapCondition, context: EvaluationContext) -> Mask:
    times, middle = own_gaps(line, context)
    return as_mask((times >= line.fewest) & (middle >= line.low) & (middle <= line.high))


def own_gaps(line: GapCondition, context: EvaluationContext) -> tuple[Ints, Any]:
    """How many days of coming each person has, and the median of the gaps between them in days."""
    if line.what == "visits":
        days = came_days(context.snapshot, context.now, line.department)
    else:
        days = buying_days(context.snapshot, context.now, ShopPart(department=line.department))
    own, middle = own_medians(days, context.today, context.size)
    return np.bincount(days.person, minlength=context.size), np.where(own > 0, middle, 0.0)


def say(line: GapCondition, saying: Saying) -> str:
    verb = "come in" if line.what == "visits" else "order"
    often = f"{line.low} days" if line.low == line.high else f"{line.low} to {line.high} days"
    place = say_named(saying.catalogue.departments, line.department, "in")
    return join("usually", verb, place, f"every {often} (known from {line.fewest} {line.what} or more)")


def fact(line: GapCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    times, middle = own_gaps(line, context)
    count = int(times[number])
    if count < 2:
        return "came once" if count else "never came"
    return (
        f"every {middle[number]:g} days, by {count}"
        f" {'visits' if line.what == 'visits' else 'days with an order'}"
    )


CONDITION = ConditionType(GapCondition, meets, say, fact=fact, rows="order")
