"""How long to wait: durations by the clock and by the calendar.

Days and longer keep the wall-clock time across changes of the clock; minutes and hours are elapsed time.
Months are by calendar, clipped to the month's end. Instants are whole seconds since 1970.
"""

from calendar import monthrange
from datetime import date
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from loyalbell.core.clock.zones import DAY, QUARTER, Zone, day_number, day_of

Ints = NDArray[np.int64]
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


class ManyAfter:
    """``after`` for many instants at once.

    Clocks change, and days begin, at whole quarters of an hour, so that within one the ends lie as far apart
    as the beginnings wherever its first and its last second say so; elsewhere each is asked for.
    """

    def __init__(self, span: Span, zone: Zone) -> None:
        self._span, self._zone = span, zone
        self._quarters: dict[int, tuple[int, int]] = {}

    def __call__(self, instants: Ints) -> Ints:
        unit, amount = self._span.unit, self._span.amount
        if unit in _ELAPSED or not amount:
            return instants + amount * _ELAPSED.get(unit, 0)
        quarters, place = np.unique(instants // QUARTER, return_inverse=True)
        ends = np.asarray([self._ends(quarter) for quarter in quarters.tolist()], dtype=np.int64)
        first, last = ends.reshape(-1, 2).T
        found: Ints = first[place] + instants % QUARTER
        for row in np.flatnonzero((last - first != QUARTER - 1)[place]).tolist():
            found[row] = after(int(instants[row]), self._span, self._zone)
        return found

    def _ends(self, quarter: int) -> tuple[int, int]:
        """Of waits that begin with its first and with its last second."""
        ends = self._quarters.get(quarter)
        if ends is None:
            begin = quarter * QUARTER
            first, last = (after(at, self._span, self._zone) for at in (begin, begin + QUARTER - 1))
            ends = self._quarters[quarter] = (first, last)
        return ends


def months_later(day: date, months: int) -> date:
    """The same day of a later month, or its last: 31 January and one month is the end of February."""
    years, month = divmod(day.month - 1 + months, 12)
    year = day.year + years
    return date(year, month + 1, min(day.day, monthrange(year, month + 1)[1]))
