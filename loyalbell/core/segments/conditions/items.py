"""What somebody bought."""

from typing import Literal

import numpy as np

from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType, ShortText
from loyalbell.core.segments.conditions.measuring import (
    Measured,
    compared,
    measured_fact,
    measured_rows,
    within_period,
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
from loyalbell.core.segments.periods import Ever, Part, Period


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
    part, snapshot = context.snapshot.lines, context.snapshot
    rows = part.span(*context.span(line.period))
    kept = part.void_at[rows] > context.now
    if line.item is not None:
        kept &= part.item[rows] == line.item
    if line.category is not None:
        wanted = [
            at for at, (_, category, _) in snapshot.catalogue.items.items() if category == line.category
        ]
        kept &= np.isin(part.item[rows], wanted)
    if line.department is not None:
        kept &= part.department[rows] == line.department
    kept = within_period(line.period, context, part, rows, kept)
    person, at = part.person[rows][kept], part.at[rows][kept]
    if line.measure == "count":
        _, once = np.unique(part.key[rows][kept], return_index=True)
        person, at = person[np.sort(once)], at[np.sort(once)]
        return measured_rows(line, context, person, at)
    weights = {"sum": part.money, "quantity": part.quantity}.get(line.measure)
    return measured_rows(line, context, person, at, None if weights is None else weights[rows][kept])


def say(line: ItemsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = names.get(line.item, GONE) if line.item is not None else ""
    if line.category is not None:
        what = join(what, "anything of", line.category) if not what else f"{what} ({line.category})"
    bought = "have not bought" if line.measure == "count" and says_never(line) else "have bought"
    department = say_named(saying.catalogue.departments, line.department, "in")
    return join(bought, what or "anything", say_measure(line, saying), department, say_when(line))


CONDITION = ConditionType(ItemsCondition, compared(measure), say, fact=measured_fact(measure), rows="order")
