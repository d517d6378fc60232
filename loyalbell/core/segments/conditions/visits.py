"""When and how often somebody came in."""

from typing import Literal

import numpy as np

from loyalbell.core.history.visits import visits
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import (
    Measured,
    compared,
    measured_fact,
    measured_rows,
    within_period,
)
from loyalbell.core.segments.conditions.wording import (
    Saying,
    join,
    say_measure,
    say_named,
    say_when,
    says_never,
)
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever, Part, Period


class VisitsCondition(Part):
    """Visits: kept appointments, walk-ins, orders in person; two on one day at one place are one."""

    about: Literal["visits"] = "visits"
    measure: Literal["count", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    department: int | None = None
    location: int | None = None
    period: Period = Ever()


def measure(line: VisitsCondition, context: EvaluationContext) -> Measured:
    part = visits(context.snapshot, context.now)
    rows = part.span(*context.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    for name in ("department", "location"):
        if getattr(line, name) is not None:
            kept &= getattr(part, name)[rows] == getattr(line, name)
    kept = within_period(line.period, context, part, rows, kept)
    return measured_rows(line, context, part.person[rows][kept], part.at[rows][kept])


def say(line: VisitsCondition, saying: Saying) -> str:
    came = "have not come in" if line.measure == "count" and says_never(line) else "have come in"
    places = saying.catalogue
    return join(
        came,
        say_named(places.departments, line.department, "to"),
        say_named(places.locations, line.location, "at"),
        say_measure(line, saying),
        say_when(line),
    )


CONDITION = ConditionType(VisitsCondition, compared(measure), say, fact=measured_fact(measure), rows="visit")
