"""Codes of offers held, used or let run out."""

from typing import Literal

from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.measuring import any_of
from loyalbell.core.segments.conditions.wording import GONE, Saying, join
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Part

DAY = 86_400


class OffersCondition(Part):
    """Codes of offers: held now (``days`` more than 0: ending within so many days), given, used, or run out
    unused.

    For the last three ``days`` counts back, 0 for ever.
    """

    about: Literal["offers"] = "offers"
    state: Literal["hold", "were given", "used", "let run out"] = "hold"
    offer: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


def meets(line: OffersCondition, context: EvaluationContext) -> Mask:
    codes, now = context.snapshot.codes, context.now
    kept = codes.at <= now
    if line.offer is not None:
        kept &= codes.offer == line.offer
    since = now - line.days * DAY if line.days else -(2**62)
    if line.state == "hold":
        kept &= (codes.until > now) & (codes.used_at > now)
        if line.days:
            kept &= codes.until <= now + line.days * DAY
    elif line.state == "were given":
        kept &= codes.at > since
    elif line.state == "used":
        kept &= (codes.used_at <= now) & (codes.used_at > since)
    else:
        kept &= (codes.until <= now) & (codes.until > since) & (codes.used_at > codes.until)
    held = any_of(codes.person[kept], context)
    return held if line.has else ~held


def say(line: OffersCondition, saying: Saying) -> str:
    what = (
        f"a code of “{saying.offers.get(line.offer, GONE)}”"
        if line.offer is not None
        else "a code of any offer"
    )
    verbs = {
        "hold": ("hold", "do not hold"),
        "were given": ("were given", "were not given"),
        "used": ("used", "did not use"),
        "let run out": ("let run out", "did not let run out"),
    }
    verb = verbs[line.state][0 if line.has else 1]
    if line.state == "hold":
        return join(verb, what, f"that ends within {line.days} days" if line.days else "now")
    return join(verb, what, f"in the last {line.days} days" if line.days else "ever")


CONDITION = ConditionType(OffersCondition, meets, say)
