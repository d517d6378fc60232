"""Those who spent most."""

from typing import Literal

from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.rhythm.concentration import concentration
from loyalbell.core.rhythm.return_curve import Part as ShopPart
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.wording import Saying, join, say_named
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Part


class TopCondition(Part):
    """Among the top ``percent`` of buyers by money; ``days`` back, or ever where it is 0."""

    about: Literal["top"] = "top"
    percent: float = Field(default=20, gt=0, le=100)
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None


def meets(line: TopCondition, context: EvaluationContext) -> Mask:
    found = concentration(
        context.snapshot, context.now, line.days or None, ShopPart(department=line.department)
    )
    return found.top_people(line.percent / 100)


def say(line: TopCondition, saying: Saying) -> str:
    when = f"in the last {line.days} days" if line.days else "ever"
    department = say_named(saying.catalogue.departments, line.department, "in")
    return join(f"are among the {line.percent:g} % who spent most", department, when)


CONDITION = ConditionType(TopCondition, meets, say)
