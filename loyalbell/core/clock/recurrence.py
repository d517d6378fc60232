"""When a campaign goes out again: on more dates, or by a rule of days, weeks or months."""

from collections.abc import Iterator, Sequence
from datetime import date, datetime, time
from itertools import takewhile
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from dateutil.rrule import DAILY, MONTHLY, WEEKLY, rrule, weekday
from pydantic import BaseModel, ConfigDict, Field

from loyalbell.core.clock.local_time import at_local, local_day

UNITS = {"days": DAILY, "weeks": WEEKLY, "months": MONTHLY}
NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
PLACES = ("first", "second", "third", "fourth", "last")
FARTHEST = date(2200, 1, 1)


class Repeat(BaseModel):
    """Every so many days, weeks or months, by the recurrence rules of RFC 5545 section 3.3.10.

    ``weekdays`` (0 is Monday) are of weeks, none meaning the weekday of the first time. By months it is the
    same day of the month, the last one where a month is too short, or with ``same_weekday`` the same weekday
    of the month ("the second Tuesday"; a fifth one means the last). ``until`` is the last local day;
    ``times`` counts all rounds.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    every: int = Field(default=1, ge=1, le=60)
    unit: Literal["days", "weeks", "months"] = "weeks"
    weekdays: tuple[Annotated[int, Field(ge=0, le=6)], ...] = ()
    same_weekday: bool = False
    until: date | None = None
    times: int | None = Field(default=None, ge=1, le=1_000)

    def days(self, first: date) -> Iterator[date]:
        """The local days, from the first that fits on."""
        found = (one.date() for one in self._rule(first))
        last = self.until or FARTHEST
        return takewhile(lambda day: day <= last, found)

    def _rule(self, first: date) -> rrule:
        start = datetime.combine(first, time())
        by: dict[str, object] = {}
        if self.unit == "weeks":
            by["byweekday"] = list(self.weekdays) or [first.weekday()]
        elif self.unit == "months" and self.same_weekday:
            by["byweekday"] = weekday(first.weekday(), _place_in_month(first))
        elif self.unit == "months":
            by |= {"bymonthday": list(range(min(first.day, 28), first.day + 1)), "bysetpos": -1}
        return rrule(UNITS[self.unit], dtstart=start, interval=self.every, count=self.times, **by)

    def words(self, first: date) -> str:
        """ "every 2 weeks on Monday and Thursday, until 1 December 2026"."""
        often = f"every {self.every} {self.unit}" if self.every > 1 else f"every {self.unit[:-1]}"
        end = f", until {self.until:%-d %B %Y}" if self.until else ""
        end += f", {self.times} times in all" if self.times else ""
        return often + self._on(first) + end

    def _on(self, first: date) -> str:
        if self.unit == "days":
            return ""
        if self.unit == "weeks":
            names = [NAMES[one] for one in sorted(self.weekdays) or [first.weekday()]]
            return " on " + (", ".join(names[:-1]) + " and " if names[1:] else "") + names[-1]
        if self.same_weekday:
            return f" on the {PLACES[min((first.day - 1) // 7, 4)]} {NAMES[first.weekday()]}"
        return f" on day {first.day}" + (" or the last there is" if first.day > 28 else "")


def _place_in_month(day: date) -> int:
    place = (day.day - 1) // 7 + 1
    return place if place < 5 else -1


def rounds(first: datetime, more: Sequence[datetime], repeat: Repeat | None, zone: str) -> Iterator[datetime]:
    """The instants at which it goes out, ascending, each once.

    At the same wall-clock time of ``zone`` when repeated.
    """
    if repeat is None:
        yield from sorted({first, *more})
        return
    clock = first.astimezone(ZoneInfo(zone)).time()
    for day in repeat.days(local_day(first, zone)):
        yield at_local(day, clock, zone)
