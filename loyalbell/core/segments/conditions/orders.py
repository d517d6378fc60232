"""How often, for how much, or when somebody ordered."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.before import before
from loyalbell.core.history.columns import Ints, Mask, Rows
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import (
    Measured,
    compared,
    measured_fact,
    measured_rows,
    within_period,
)
from loyalbell.core.segments.conditions.sums_before import with_sums
from loyalbell.core.segments.conditions.wording import (
    Saying,
    join,
    ordinal,
    say_measure,
    say_named,
    say_when,
    says_never,
)
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever, Part, Period


class OrdersCondition(Part):
    """How often, for how much, or when somebody ordered.

    ``value`` is orders (count), minor units (sum, average), days (distinct days), or calendar
    days ago (first, last). ``nth`` asks about the n-th order alone; ``least`` leaves out smaller orders.
    """

    about: Literal["orders"] = "orders"
    measure: Literal["count", "sum", "average", "days", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    department: int | None = None
    location: int | None = None
    least: Amount | None = None
    nth: int | None = Field(default=None, ge=1, le=10_000)
    period: Period = Ever()


def measure(line: OrdersCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.orders
    low, high = context.span(line.period)
    rows = part.span(low, high) if line.nth is None else part.span(-(2**62), context.now)
    kept = part.counted(rows, context.now)
    for name in ("department", "location"):
        wanted = getattr(line, name)
        if wanted is not None:
            kept &= getattr(part, name)[rows] == wanted
    if line.least is not None:
        kept &= part.money[rows] >= line.least
    sums = before(context.snapshot, context.now) if _is_of_all(line) else None
    if line.nth is not None:
        earlier = sums.orders if sums is not None else None
        kept = _nth(part, rows, kept, line.nth, earlier) & (part.at[rows] >= low) & (part.at[rows] <= high)
    kept = within_period(line.period, context, part, rows, kept)
    money = None
    if line.measure in ("sum", "average"):
        money = part.net_money(rows, context.now)[kept]
    found = measured_rows(line, context, part.person[rows][kept], part.at[rows][kept], money)
    return found if sums is None or line.nth is not None else with_sums(line, context, found, sums)


def _is_of_all(line: OrdersCondition) -> bool:
    """Sums of before this book know no department, place or amount of one order."""
    return line.department is None and line.location is None and line.least is None


def _nth(part: Rows, rows: slice, kept: Mask, nth: int, earlier: Ints | None = None) -> Mask:
    """Of the rows kept, the n-th of each person in time, after those ``earlier`` that have no row."""
    places = np.flatnonzero(kept)
    person = part.person[rows][places]
    order = np.argsort(person, kind="stable")
    grouped = person[order]
    first = np.ones(len(grouped), dtype=np.bool_)
    first[1:] = grouped[1:] != grouped[:-1]
    starts = np.flatnonzero(first)
    rank = np.arange(len(grouped)) - np.repeat(starts, np.diff(np.append(starts, len(grouped))))
    out = np.zeros(len(kept), dtype=np.bool_)
    if earlier is not None:
        rank += earlier[grouped]
    out[places[order[rank == nth - 1]]] = True
    return out


def say_act(line: OrdersCondition) -> str:
    """``ordered``, ``not ordered`` or ``spent``."""
    if line.measure == "sum":
        return "spent"
    return "not ordered" if line.measure == "count" and says_never(line) else "ordered"


def say(line: OrdersCondition, saying: Saying) -> str:
    amount = (
        say_measure(line, saying).removeprefix("for ") if line.measure == "sum" else say_measure(line, saying)
    )
    nth = f"their {ordinal(line.nth)} order" if line.nth else ""
    least = f"for {saying.money(line.least)} or more each time" if line.least else ""
    places = saying.catalogue
    return join(
        "have",
        say_act(line),
        nth,
        amount,
        least,
        say_named(places.departments, line.department, "in"),
        say_named(places.locations, line.location, "at"),
        say_when(line),
    )


CONDITION = ConditionType(OrdersCondition, compared(measure), say, fact=measured_fact(measure), rows="order")
