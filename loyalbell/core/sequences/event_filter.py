"""Things that happen to a person, as a plan names them."""

from typing import Literal, Self

from pydantic import Field, model_validator

from loyalbell.core.segments.model import Amount, ShortText
from loyalbell.core.sequences.plan_part import PlanPart

What = Literal[
    "order",
    "order confirmed",
    "order shipped",
    "order delivered",
    "order cancelled",
    "visit",
    "booking",
    "appointment kept",
    "appointment missed",
    "appointment cancelled",
    "membership",
    "tag",
    "event",
    "answer",
    "opened",
    "clicked",
    "replied",
]
"""Things that can happen to a person.

``visit`` is a kept appointment, a walk-in or an order in person; ``booking`` an appointment made;
``membership`` one begun; the last three are what they did with any message of ours.
"""


class EventFilter(PlanPart):
    """Something that happens, and to which of its kind it is narrowed.

    For orders: holding any of the ``items`` or ``categories``, of any of the ``departments``, of at least
    ``least`` minor units; ``nth``: only a person's n-th order, counted over all that fit. ``others``: only
    orders that hold nothing which another live sequence names. ``tag`` and ``event`` say which; ``low`` to
    ``high`` is the score of an answer in per cent of its best.
    """

    what: What = "order"
    items: tuple[int, ...] = ()
    categories: tuple[ShortText, ...] = ()
    departments: tuple[int, ...] = ()
    least: Amount | None = None
    nth: int | None = Field(default=None, ge=1, le=10_000)
    others: bool = False
    tag: int | None = None
    event: ShortText | None = None
    low: int = Field(default=0, ge=0, le=100)
    high: int = Field(default=100, ge=0, le=100)

    @model_validator(mode="after")
    def _complete(self) -> Self:
        if self.what == "tag" and self.tag is None:
            raise ValueError("say which tag")
        if self.what == "event" and self.event is None:
            raise ValueError("say which event")
        return self
