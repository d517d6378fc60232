"""Events of a site or an app."""

import json
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType, ShortText
from loyalbell.core.segments.conditions.measuring import (
    Measured,
    compared,
    measured_fact,
    measured_rows,
    within_period,
)
from loyalbell.core.segments.conditions.wording import Saying, join, say_measure, say_when, says_never
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever, Part, Period


class EventsCondition(Part):
    """Events of a kind, where a property has a value (as text) if one is named."""

    about: Literal["events"] = "events"
    kind: ShortText
    property: ShortText | None = None
    holds: Annotated[str, Field(max_length=200)] = ""
    measure: Literal["count", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


def measure(line: EventsCondition, context: EvaluationContext) -> Measured:
    part, words = context.snapshot.events, context.snapshot.words
    rows = part.span(*context.span(line.period))
    kept = part.kind[rows] == words.get(line.kind, -1)
    if line.property is not None:
        codes = [
            code for code in np.unique(part.properties[rows][kept]) if _holds(words.said[int(code)], line)
        ]
        kept &= np.isin(part.properties[rows], codes)
    kept = within_period(line.period, context, part, rows, kept)
    return measured_rows(line, context, part.person[rows][kept], part.at[rows][kept])


def _holds(properties: str, line: EventsCondition) -> bool:
    held = json.loads(properties or "{}").get(line.property)
    if held is None:
        return False
    said = {True: "yes", False: "no"}.get(held, str(held)) if isinstance(held, bool) else str(held)
    return not line.holds or said.casefold() == line.holds.casefold()


def say(line: EventsCondition, saying: Saying) -> str:
    where = (
        f"with {line.property} “{line.holds}”"
        if line.property and line.holds
        else f"with {line.property}"
        if line.property
        else ""
    )
    said = "have not" if line.measure == "count" and says_never(line) else "have"
    return join(said, f"“{line.kind}”", where, say_measure(line, saying), say_when(line))


CONDITION = ConditionType(EventsCondition, compared(measure), say, fact=measured_fact(measure), rows="event")
