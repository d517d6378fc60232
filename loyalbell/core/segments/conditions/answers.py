"""Reviews and answers with a score."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import Measured, compared, measured_fact, within_period
from loyalbell.core.segments.conditions.wording import Saying, join, say_measure, say_when, says_never
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever, Part, Period


class AnswersCondition(Part):
    """Reviews and answers with a score, as a share of the best in per cent, from ``low`` to ``high``."""

    about: Literal["answers"] = "answers"
    kind: Literal["review", "survey", "any"] = "any"
    low: int = Field(default=0, ge=0, le=100)
    high: int = Field(default=100, ge=0, le=100)
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


def measure(line: AnswersCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.answers
    rows = part.span(*context.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    if line.kind != "any":
        kept &= part.kind[rows] == context.snapshot.words.get(line.kind, -1)
    if line.low > 0 or line.high < 100:
        score, best = part.score[rows].astype(np.int64), part.best[rows].astype(np.int64)
        kept &= (
            (score >= 0) & (best > 0) & (score * 100 >= line.low * best) & (score * 100 <= line.high * best)
        )
    kept = within_period(line.period, context, part, rows, kept)
    return Measured(context.snapshot.per_person(part.person[rows][kept]))


def say(line: AnswersCondition, saying: Saying) -> str:
    what = {"review": "a review", "survey": "a survey’s question", "any": "us"}[line.kind]
    verb = "have given" if line.kind == "review" else "have answered"
    if says_never(line):
        verb = verb.replace("have", "have not")
    score = "" if (line.low, line.high) == (0, 100) else f"with {line.low} to {line.high} % of the best score"
    return join(verb, what, score, say_measure(line, saying), say_when(line))


CONDITION = ConditionType(
    AnswersCondition, compared(measure), say, fact=measured_fact(measure), rows="answer"
)
