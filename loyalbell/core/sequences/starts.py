"""What brings people into a sequence."""

from typing import Annotated, Literal

from pydantic import Field

from loyalbell.core.clock.durations import Span
from loyalbell.core.clock.send_windows import ClockTime
from loyalbell.core.clock.zones import Zone
from loyalbell.core.segments.model import Rule, ShortText
from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.plan_part import PlanPart


class ElapsedSpan(Span):
    """Minutes or hours, by the clock."""

    amount: int = Field(default=30, ge=1, le=10_000)
    unit: Literal["minutes", "hours"] = "minutes"


class OnEvent(PlanPart):
    """When something happens."""

    on: Literal["event"] = "event"
    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")


class OnSegment(PlanPart):
    """Looked at once a day: who has joined the segment since the day before, has left it, or is in it."""

    on: Literal["segment"] = "segment"
    rule: Rule = Rule()
    way: Literal["joins", "leaves", "is in"] = "joins"
    at: ClockTime = "09:00"


class OnDate(PlanPart):
    """``days`` after a date (before it, where negative): ``birthday``, ``companion`` for any companion's,
    ``renewal`` of a membership, ``appointment``, or the name of a yearly date of theirs.
    """

    on: Literal["date"] = "date"
    which: ShortText = "birthday"
    days: int = Field(default=0, ge=-365, le=365)
    at: ClockTime = "09:00"


class OnInactivity(PlanPart):
    """``days`` local days after something happened last, at a time of the day; or, with ``elapsed``, so many
    minutes or hours after it, whenever that is.
    """

    on: Literal["lack"] = "lack"
    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")
    days: int = Field(default=60, ge=1, le=3_650)
    at: ClockTime = "09:00"
    elapsed: ElapsedSpan | None = None

    @property
    def longest_days(self) -> int:
        """Not longer than so many days."""
        return self.days if self.elapsed is None else round(self.elapsed.seconds // 86_400) + 1

    def __str__(self) -> str:
        return str(self.elapsed or Span(amount=self.days))


class ByHand(PlanPart):
    """By a person, a bulk act, another sequence or another program."""

    on: Literal["hand"] = "hand"


Start = Annotated[OnEvent | OnSegment | OnDate | OnInactivity | ByHand, Field(discriminator="on")]


def end_of_its_day(start: Start, anchor: int, zone: Zone) -> int | None:
    """Where the local day is over that brought somebody in; ``None`` for a start that is no date."""
    return zone.instant(zone.day(anchor) + 1, 0) if isinstance(start, OnDate) else None
