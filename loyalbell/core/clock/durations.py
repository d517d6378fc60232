"""How long to wait: durations by the clock and by the calendar.

Days and longer keep the wall-clock time across changes of the clock; minutes and hours are elapsed time.
Months are by calendar, clipped to the month's end. Instants are whole seconds since 1970.
"""

from calendar import monthrange
from datetime import date
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from loyalbell.core.clock.zones import DAY, Zone, day_number, day_of

Unit = Literal["minutes", "hours", "days", "weeks", "months"]
_ELAPSED = {"minutes": 60, "hours": 3_600}
_ROUGHLY = {"minutes": 60, "hours": 3_600, "days": DAY, "weeks": 7 * DAY, "months": 30.44 * DAY}


class Span(BaseModel):
    """A duration such as 3 days."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    amount: int = Field(default=1, ge=0, le=10_000)
    unit: Unit = "days"

    @property
    def seconds(self) -> float:
        """About how long it is; a month is taken as 30.44 days."""
        return self.amount * _ROUGHLY[self.unit]

    def __str__(self) -> str:
        return f"{self.amount} {self.unit.removesuffix('s') if self.amount == 1 else self.unit}"


def after(instant: int, span: Span, zone: Zone) -> int:
    """The instant at which a wait that began at ``instant`` is over."""
    if span.unit in _ELAPSED:
        return instant + span.amount * _ELAPSED[span.unit]
    if not span.amount:
        return instant
    day, second = zone.local(instant)
    if span.unit == "months":
        return zone.instant(day_number(months_later(day_of(day), span.amount)), second)
    return zone.instant(day + span.amount * (7 if span.unit == "weeks" else 1), second)


def months_later(day: date, months: int) -> date:
    """The same day of a later month, or its last: 31 January and one month is the end of February."""
    years, month = divmod(day.month - 1 + months, 12)
    year = day.year + years
    return date(year, month + 1, min(day.day, monthrange(year, month + 1)[1]))
