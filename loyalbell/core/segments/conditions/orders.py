"""How often, for how much, or when somebody ordered."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.before import Before, before
from loyalbell.core.history.columns import NEVER, Ints, Mask
from loyalbell.core.history.settled import (
    first_standing,
    in_department,
    last_standing,
    net_money,
    nth_places,
    settled_from,
    standing,
    stands,
)
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import (
    NOTHING,
    OF_INSTANTS,
    DaysAgo,
    Measured,
    compared,
    measured_fact,
    measured_rows,
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
from loyalbell.core.segments.periods import AfterJoining, Ever, Part, Period, SinceEntering


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
    sums = before(context.snapshot, context.now) if _is_of_all(line) else None
    if sums is None and _is_simple(line, context):
        return _newest_or_oldest(line, context)
    places = _places(line, context, sums)
    part = context.snapshot.orders
    money = net_money(part, places, context.now) if line.measure in ("sum", "average") else None
    at = part.at[places] if line.measure in OF_INSTANTS else NOTHING
    found = measured_rows(line, context, part.person[places], at, money)
    return found if sums is None or line.nth is not None else with_sums(line, context, found, sums)


def _places(line: OrdersCondition, context: EvaluationContext, sums: Before | None) -> Ints:
    """The orders that the line is about, in order of time unless there is one a person."""
    part = context.snapshot.orders
    low, high = context.span(line.period)
    if line.nth is not None:
        places = _nth(line, context, sums)
        at = part.at[places]
        places = places[(at >= low) & (at <= high)]
    else:
        rows = part.span(low, high)
        places = np.flatnonzero(_kept(line, context, rows)) + rows.start
    if not isinstance(line.period, AfterJoining | SinceEntering):
        return places
    inside = context.inside(line.period, part.person[places], part.at[places])
    return places if inside is None else places[inside]


def _kept(line: OrdersCondition, context: EvaluationContext, rows: slice) -> Mask:
    part = context.snapshot.orders
    kept = stands(part, rows, context.now)
    if line.department is not None:
        kept = kept & in_department(part, line.department, rows)
    if line.location is not None:
        kept = kept & (part.location[rows] == line.location)
    if line.least is not None:
        kept = kept & (part.money[rows] >= line.least)
    return kept


def _nth(line: OrdersCondition, context: EvaluationContext, sums: Before | None) -> Ints:
    """The n-th order of each person, after those of before this book that have no row."""
    part, size, number = context.snapshot.orders, context.size, line.nth or 1
    nth = number if sums is None else number - sums.orders
    if _is_of_all(line) and context.now >= settled_from(part):
        return nth_places(part, standing(part), size, nth, "standing")
    kept = np.zeros(len(part), dtype=np.bool_)
    rows = part.span(-(2**62), context.now)
    kept[rows] = _kept(line, context, rows)
    return nth_places(part, kept, size, nth)


def _is_simple(line: OrdersCondition, context: EvaluationContext) -> bool:
    """Asks for the first or the last of all orders, ever, as things stand now."""
    return (
        line.measure in ("first", "last")
        and line.nth is None
        and isinstance(line.period, Ever)
        and _is_of_all(line)
        and context.now >= settled_from(context.snapshot.orders)
    )


def _newest_or_oldest(line: OrdersCondition, context: EvaluationContext) -> Measured:
    orders, size = context.snapshot.orders, context.size
    if line.measure == "last":
        at = last_standing(orders, size)
        return DaysAgo.since(at, at > -NEVER, context)
    at = first_standing(orders, size)
    return DaysAgo.since(at, at < NEVER, context)


def _is_of_all(line: OrdersCondition) -> bool:
    """Sums of before this book know no department, place or amount of one order."""
    return line.department is None and line.location is None and line.least is None


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
