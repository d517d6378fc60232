"""Counts, sums and days of rows in a period, and how they are compared and said."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Ints, Mask, Rows, Small, distinct
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.conditions.base import Comparison
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Period
from loyalbell.core.segments.problems import RuleProblem

COMPARE: dict[Comparison, Callable[[Any, Any], Mask]] = {
    "at least": np.greater_equal,
    "at most": np.less_equal,
    "exactly": np.equal,
}


OF_INSTANTS = ("days", "first", "last")
"""Measures that need to know when; the others count or add up."""
NOTHING: Ints = np.zeros(0, dtype=np.int64)


@dataclass(frozen=True)
class Measured:
    """What a line comes to, per person number: ``values`` are compared with the line's value times ``scale``.

    Where ``has`` is false there is nothing to compare, and the comparison is false.
    """

    values: Ints
    has: Mask | None = None
    scale: Ints | int = 1

    def meets(self, comparison: Comparison, value: int) -> Mask:
        met = COMPARE[comparison](self.values, value * self.scale)
        return met if self.has is None else self.has & met

    def of(self, number: int) -> int:
        """Of one person."""
        return int(self.values[number])


@dataclass(frozen=True)
class DaysAgo(Measured):
    """Calendar days since an instant of each person, compared without turning every instant into a day."""

    at: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    context: EvaluationContext | None = None

    @classmethod
    def since(cls, at: Ints, has: Mask, context: EvaluationContext) -> "DaysAgo":
        return cls(np.zeros(0, dtype=np.int64), has, 1, at, context)

    def meets(self, comparison: Comparison, value: int) -> Mask:
        assert self.context is not None
        assert self.has is not None
        # so many days ago or more: before the day after that one began
        begins = [self.context.day_start(days) for days in (value - 1, value)]
        old, not_older = self.at < begins[0], self.at >= begins[1]
        met = {"at least": old, "at most": not_older, "exactly": old & not_older}[comparison]
        return self.has & met

    def of(self, number: int) -> int:
        assert self.context is not None
        day = local_days(self.at[number : number + 1], self.context.snapshot.zone)
        return self.context.today - int(day[0])


def within_period(period: Period, context: EvaluationContext, part: Rows, rows: slice, kept: Mask) -> Mask:
    inside = context.inside(period, part.person[rows], part.at[rows])
    return kept if inside is None else kept & inside


def measured_rows(
    line: Any, context: EvaluationContext, person: NDArray[np.int32], at: Ints, weights: Ints | None = None
) -> Measured:
    """A first, a last or an average of nothing is nothing."""
    snapshot = context.snapshot
    if line.measure in ("count", "sum", "quantity"):
        return Measured(snapshot.per_person(person, weights), scale=1000 if line.measure == "quantity" else 1)
    if line.measure == "days":
        both = distinct(
            (person.astype(np.int64) << 32) | (local_days(at, snapshot.zone) - context.today + 2**31)
        )
        return Measured(snapshot.per_person((both >> 32).astype(np.int32)))
    count = snapshot.per_person(person)
    if line.measure == "average":
        return Measured(snapshot.per_person(person, weights), count > 0, count)
    return _days_ago(line, context, person, at, count)


def _days_ago(
    line: Any, context: EvaluationContext, person: NDArray[np.int32], at: Ints, count: Ints
) -> Measured:
    """Calendar days since the first or the last of the rows, which are in order of time."""
    chosen = np.zeros(context.size, dtype=np.int64)
    if line.measure == "last":
        chosen[person] = at
    else:
        chosen[person[::-1]] = at[::-1]
    ago = np.zeros(context.size, dtype=np.int64)
    has = count > 0
    ago[has] = context.today - local_days(chosen[has], context.snapshot.zone)
    return Measured(ago, has)


Measure = Callable[[Any, EvaluationContext], Measured]


def compared(measure: Measure) -> Callable[[Any, EvaluationContext], Mask]:
    """``meets`` of a condition that compares a measure with its value."""

    def meets(line: Any, context: EvaluationContext) -> Mask:
        return measure(line, context).meets(line.comparison, line.value)

    return meets


def measured_fact(measure: Measure) -> Callable[[Any, EvaluationContext, int, Saying], str]:
    """``fact`` of such a condition: what the measure comes to for one person."""

    def fact(line: Any, context: EvaluationContext, number: int, saying: Saying) -> str:
        return _say_measured(line, measure(line, context), number, saying)

    return fact


def _say_measured(line: Any, measured: Measured, number: int, saying: Saying) -> str:
    if measured.has is not None and not measured.has[number]:
        return "nothing to go by"
    value = measured.of(number)
    measure = getattr(line, "measure", "count")
    if measure == "sum":
        return saying.money(value)
    if measure == "average":
        scale: Any = measured.scale
        return f"{saying.money(round(value / int(scale[number])))} on average"
    if measure == "quantity":
        return f"{value / 1000:g}"
    if measure in ("first", "last"):
        return f"the {measure} was {value} {'day' if value == 1 else 'days'} ago"
    return f"{value} {'day' if measure == 'days' else 'time'}{'' if value == 1 else 's'}"


def any_of(person: Small, context: EvaluationContext) -> Mask:
    """True for everybody who has one of the rows."""
    out = np.zeros(context.size, dtype=np.bool_)
    out[person] = True
    return out


def as_mask(found: Any) -> Mask:
    return np.asarray(found, dtype=np.bool_)


def read_number(text: str) -> float:
    try:
        return float(text.replace(",", ""))
    except ValueError:
        raise RuleProblem(f"“{text}” is not a number") from None
