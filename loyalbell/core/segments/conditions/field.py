"""The shop's own fields."""

from datetime import date
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.history.visits import EPOCH
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.measuring import any_of, as_mask, read_number
from loyalbell.core.segments.conditions.wording import GONE, Saying, join
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part
from loyalbell.core.segments.problems import RuleProblem


class FieldCondition(Part):
    """One of the shop's own fields.

    ``value`` is a number, a text, a choice, or a day as ISO text; yes is ``yes``.

    A comparison on a field that somebody lacks is false, whichever way it goes.
    """

    about: Literal["field"] = "field"
    field: int
    comparison: Literal[
        "is",
        "is not",
        "at least",
        "at most",
        "contains",
        "in the next days",
        "in the last days",
        "is known",
        "is not known",
    ] = "is known"
    value: Annotated[str, Field(max_length=200)] = ""


def meets(line: FieldCondition, context: EvaluationContext) -> Mask:
    """Raises ``RuleProblem`` for a field that has been deleted or a value that is none of it."""
    known = context.snapshot.catalogue.fields.get(line.field)
    if known is None:
        raise RuleProblem("It asks for a field that has been deleted.")
    values = context.snapshot.values_of(line.field, context.now)
    has = any_of(values.person, context)
    if line.comparison in ("is known", "is not known"):
        return has if line.comparison == "is known" else ~has
    if line.comparison == "is not":
        return has & ~any_of(values.person[_field_rows(line, known[1], values, context, "is")], context)
    return any_of(values.person[_field_rows(line, known[1], values, context, line.comparison)], context)


def _field_rows(
    line: FieldCondition, kind: str, values: Any, context: EvaluationContext, comparison: str
) -> Mask:
    if kind in ("number", "yes or no", "date"):
        return _numbers(line, kind, values.number, context, comparison)
    said = context.snapshot.words.said
    wanted = line.value.casefold()
    held = [said[int(code)].casefold() for code in values.word]
    if comparison == "contains":
        return np.array([wanted in word for word in held], dtype=np.bool_)
    if comparison != "is":
        raise RuleProblem(f"“{comparison}” cannot be asked of a {kind}.")
    return np.array([word == wanted for word in held], dtype=np.bool_)


def _numbers(
    line: FieldCondition, kind: str, numbers: Any, context: EvaluationContext, comparison: str
) -> Mask:
    if comparison in ("in the next days", "in the last days"):
        if kind != "date":
            raise RuleProblem(f"“{comparison}” can be asked of dates only.")
        days = read_number(line.value)
        ahead = numbers - context.today
        if comparison == "in the next days":
            return as_mask((ahead >= 0) & (ahead <= days))
        return as_mask((ahead <= 0) & (-ahead < days))
    value = _field_value(kind, line.value)
    if comparison == "is":
        return as_mask(numbers == value)
    if comparison in ("at least", "at most") and kind != "yes or no":
        return as_mask(numbers >= value if comparison == "at least" else numbers <= value)
    raise RuleProblem(f"“{comparison}” cannot be asked of a {kind}.")


def _field_value(kind: str, text: str) -> float:
    if kind == "yes or no":
        return 1.0 if text.casefold() in ("yes", "true", "1") else 0.0
    if kind == "date":
        try:
            return float((date.fromisoformat(text) - EPOCH).days)
        except ValueError:
            raise RuleProblem(f"“{text}” is not a day such as 2026-05-12") from None
    return read_number(text)


def say(line: FieldCondition, saying: Saying) -> str:
    name = saying.catalogue.fields.get(line.field, (GONE, ""))[0]
    if line.comparison in ("in the next days", "in the last days"):
        return f"have {name} {line.comparison.removesuffix(' days')} {line.value} days"
    return join(f"have {name} that {line.comparison}", line.value if "known" not in line.comparison else "")


def fact(line: FieldCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    values = context.snapshot.values_of(line.field, context.now)
    rows = np.flatnonzero(values.person == number)
    if not len(rows):
        return "not known"
    said = [context.snapshot.words.said[int(values.word[row])] or f"{values.number[row]:g}" for row in rows]
    return ", ".join(said)


CONDITION = ConditionType(FieldCondition, meets, say, fact=fact)
