"""What every condition shares: the types of its fields, and what the core must know of it."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part

Comparison = Literal["at least", "at most", "exactly"]
Amount = Annotated[int, Field(ge=0, le=10**12)]
ShortText = Annotated[str, Field(min_length=1, max_length=200)]


@dataclass(frozen=True)
class ConditionType:
    """All that the core knows of one condition. It is registered in ``conditions/__init__.py``.

    ``meets`` gives a mask over person numbers, ``say`` its words after *Customers who*. ``fact`` is what it
    was judged on for one person number, in words; ``rows`` the kind of entry in their diary with the rows
    behind it.
    """

    model: type[Part]
    meets: Callable[[Any, EvaluationContext], Mask]
    say: Callable[[Any, Saying], str]
    fact: Callable[[Any, EvaluationContext, int, Saying], str] | None = None
    rows: str = ""

    @property
    def about(self) -> str:
        """The word by which the condition is kept in JSON."""
        return str(self.model.model_fields["about"].default)
