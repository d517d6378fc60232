"""How late somebody is against their own rhythm."""

from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.rhythm.bands import BANDS, rhythms
from loyalbell.core.rhythm.return_curve import Part as ShopPart
from loyalbell.core.rhythm.return_curve import typical_gap
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying, join, say_named
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part

FALLBACK_GAP = 60.0


class BandCondition(Part):
    """The rhythm somebody is in, by all orders or those of a department."""

    about: Literal["band"] = "band"
    bands: tuple[Literal["new", "in rhythm", "late", "quiet", "silent"], ...] = Field(
        min_length=1, default=("late",)
    )
    department: int | None = None


def meets(line: BandCondition, context: EvaluationContext) -> Mask:
    part = ShopPart(department=line.department)
    gap = float(typical_gap(context.snapshot, context.now, part) or FALLBACK_GAP)
    found = rhythms(context.snapshot, context.now, gap, part).band
    return np.isin(found, [BANDS.index(name) for name in line.bands])


def say(line: BandCondition, saying: Saying) -> str:
    return join(
        "are", " or ".join(line.bands), say_named(saying.catalogue.departments, line.department, "in")
    )


def fact(line: BandCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    part, snapshot, now = ShopPart(department=line.department), context.snapshot, context.now
    gap = float(typical_gap(snapshot, now, part) or FALLBACK_GAP)
    found = rhythms(snapshot, now, gap, part)
    band = int(found.band[number])
    if band < 0:
        return "never bought"
    since = context.today - int(found.last_day[number])
    return f"{BANDS[band]}: {since} days since the last, usual gap {found.gap[number]:.0f}"


CONDITION = ConditionType(BandCondition, meets, say, fact=fact)
