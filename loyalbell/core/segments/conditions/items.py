"""What somebody bought."""

from typing import Literal

import numpy as np

from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.history.settled import in_department, stands, worked_out
from loyalbell.core.history.snapshot import HistorySnapshot, Lines
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
    places = _places(line, context)
    if line.measure == "count":
        _, once = np.unique(part.key[places], return_index=True)
        places = places[np.sort(once)]
    at = part.at[places] if line.measure in OF_INSTANTS else NOTHING
    weights = {"sum": part.money, "quantity": part.quantity}.get(line.measure)
    weighed = None if weights is None else weights[places]
    return measured_rows(line, context, part.person[places], at, weighed)


def _places(line: ItemsCondition, context: EvaluationContext) -> Ints:
    """The lines of orders that it is about, in order of time."""
    part = context.snapshot.lines
    rows = part.span(*context.span(line.period))
    kept = stands(part, rows, context.now)
    if line.item is not None:
        kept = kept & (part.item[rows] == line.item)
    if line.category is not None:
        kept = kept & in_category(context.snapshot, line.category)[rows]
    if line.department is not None:
        kept = kept & in_department(part, line.department, rows)
    places: Ints = np.flatnonzero(kept) + rows.start
    if not isinstance(line.period, AfterJoining | SinceEntering):
        return places
    inside = context.inside(line.period, part.person[places], part.at[places])
    found: Ints = places if inside is None else places[inside]
    return found


def in_category(snapshot: HistorySnapshot, category: str) -> Mask:
    """Which lines of orders are of items of a category; kept with the lines as long as the catalogue is."""
    items = frozenset(at for at, (_, of, _) in snapshot.catalogue.items.items() if of == category)
    return worked_out(snapshot.lines, ("items", items), lambda: _of_items(snapshot.lines, items))


def _of_items(lines: Lines, items: frozenset[int]) -> Mask:
    wanted = np.zeros(int(lines.item.max(initial=0)) + 1, dtype=np.bool_)
    wanted[[item for item in items if item < len(wanted)]] = True
    return wanted[lines.item]


def say(line: ItemsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = names.get(line.item, GONE) if line.item is not None else ""
    if line.category is not None:
        what = join(what, "anything of", line.category) if not what else f"{what} ({line.category})"
    bought = "have not bought" if line.measure == "count" and says_never(line) else "have bought"
    department = say_named(saying.catalogue.departments, line.department, "in")
    return join(bought, what or "anything", say_measure(line, saying), department, say_when(line))


CONDITION = ConditionType(ItemsCondition, compared(measure), say, fact=measured_fact(measure), rows="order")
