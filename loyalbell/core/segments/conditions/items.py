"""What somebody bought."""

from typing import Literal

import numpy as np

from loyalbell.core.history.settled import in_department
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.sold import Sold, sold_of
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType, ShortText
from loyalbell.core.segments.conditions.measuring import (
    NOTHING,
    OF_INSTANTS,
    Measured,
    compared,
    measured_fact,
    measured_rows,
)
from loyalbell.core.segments.conditions.wording import (
    GONE,
    Saying,
    join,
    say_measure,
    say_named,
    say_when,
    says_never,
)
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import AfterJoining, Ever, Part, Period, SinceEntering


class ItemsCondition(Part):
    """What somebody bought: orders that hold it (count), units (quantity), money (sum), or days ago (first,
    last).
    """

    about: Literal["items"] = "items"
    measure: Literal["count", "quantity", "sum", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    item: int | None = None
    category: ShortText | None = None
    department: int | None = None
    period: Period = Ever()


def measure(line: ItemsCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.lines
    sold = _sold(line, context)
    if line.measure == "count":
        _, once = np.unique(part.key[sold.places], return_index=True)
        sold = sold.taken(np.sort(once))
    at = part.at[sold.places] if line.measure in OF_INSTANTS else NOTHING
    weights = sold.column(line.measure) if line.measure in ("sum", "quantity") else None
    return measured_rows(line, context, sold.person, at, weights)


def _sold(line: ItemsCondition, context: EvaluationContext) -> Sold:
    """The lines of orders that it is about, in order of time."""
    part = context.snapshot.lines
    found = sold_of(part, _items(line, context.snapshot), part.span(*context.span(line.period)), context.now)
    if line.department is not None:
        found = found.taken(np.flatnonzero(in_department(part, line.department, found.places)))
    inside = None
    if isinstance(line.period, AfterJoining | SinceEntering):
        inside = context.inside(line.period, found.person, part.at[found.places])
    return found if inside is None else found.taken(np.flatnonzero(inside))


def _items(line: ItemsCondition, snapshot: HistorySnapshot) -> frozenset[int] | None:
    """Of which items; none given: of all."""
    if line.category is None:
        return None if line.item is None else frozenset((line.item,))
    items = snapshot.catalogue.items
    wanted = frozenset(at for at, (_, of, _) in items.items() if of == line.category)
    return wanted if line.item is None else wanted & {line.item}


def say(line: ItemsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = names.get(line.item, GONE) if line.item is not None else ""
    if line.category is not None:
        what = join(what, "anything of", line.category) if not what else f"{what} ({line.category})"
    bought = "have not bought" if line.measure == "count" and says_never(line) else "have bought"
    department = say_named(saying.catalogue.departments, line.department, "in")
    return join(bought, what or "anything", say_measure(line, saying), department, say_when(line))


CONDITION = ConditionType(ItemsCondition, compared(measure), say, fact=measured_fact(measure), rows="order")
