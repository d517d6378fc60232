"""When a message may leave: at once, within a window, or at an exact time.

Outside quiet hours and closed days.

Times of the day are ``HH:MM``, to 24:00. Instants are whole seconds since 1970, days are counted from
1970-01-01.
"""

from dataclasses import dataclass, field
from functools import lru_cache
from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from loyalbell.core.clock.zones import DAY, Zone, weekday

ClockTime = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$|^24:00$")]
Weekdays = Annotated[tuple[Annotated[int, Field(ge=0, le=6)], ...], Field(min_length=1, max_length=7)]
EVERY_DAY = (0, 1, 2, 3, 4, 5, 6)
LOOK_AHEAD = 800
"""Days after which a window that has not opened never will: two years and a bit, for the rarest mix of days.
"""
Intervals = tuple[tuple[int, int], ...]


def seconds_of(clock: str) -> int:
    hours, minutes = clock.split(":")
    return int(hours) * 3_600 + int(minutes) * 60


class SendWindow(BaseModel):
    """``window``: from ``begins`` until before ``ends``.

    ``exact``: at ``begins``. Weekdays from 0, Monday.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: Literal["at once", "window", "exact"] = "at once"
    weekdays: Weekdays = EVERY_DAY
    begins: ClockTime = "10:00"
    ends: ClockTime = "18:00"

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.kind == "window" and seconds_of(self.ends) <= seconds_of(self.begins):
            raise ValueError("the window ends before it begins")
        return self


AT_ONCE = SendWindow()


@dataclass(frozen=True)
class QuietHours:
    """Hours of the person's day in which nothing but service leaves: from ``begins`` to ``ends``, over
    midnight or not.

    ``closed`` are days on which nothing leaves.
    """

    begins: str = ""
    ends: str = ""
    closed: frozenset[int] = field(default_factory=frozenset)


NO_QUIET = QuietHours()


@lru_cache(maxsize=1_000)
def open_hours(release: SendWindow, begins: str, ends: str) -> tuple[Intervals, ...]:
    """For each weekday the (first, last second) in which a message may leave.

    Exact times have first == last.
    """
    return tuple(_less(_hours(release), begins, ends) if at in release.weekdays else () for at in range(7))


def _hours(release: SendWindow) -> tuple[int, int]:
    if release.kind == "at once":
        return 0, DAY - 1
    first = seconds_of(release.begins)
    return first, first if release.kind == "exact" else seconds_of(release.ends) - 1


def _less(hours: tuple[int, int], begins: str, ends: str) -> Intervals:
    """The hours without the quiet ones."""
    if not begins or not ends or begins == ends:
        return (hours,) if hours[0] < DAY else ()
    low, high = seconds_of(begins), seconds_of(ends)
    free = [(high, low - 1)] if low > high else [(0, low - 1), (high, DAY - 1)]
    cut = [(max(hours[0], first), min(hours[1], last)) for first, last in free]
    return tuple((first, last) for first, last in cut if first <= last)


def _today(instant: int, second: int, day: int, hours: tuple[int, int], zone: Zone) -> int | None:
    """The first instant from now on within some hours of today; ``None`` where they are over.

    The clock's ``second`` alone does not say: on days on which the clocks change it is skipped or comes
    twice. An exact time that comes twice means the first; hours that the clocks skip altogether have one
    instant, the first after the gap.
    """
    first, last = hours
    begin = zone.instant(day, first)
    if begin >= instant:
        return begin
    if first == last or second > last:
        return None
    return instant + max(first - second, 0)


def opens(instant: int, release: SendWindow, quiet: QuietHours, zone: Zone) -> int | None:
    """The first instant, not before the given one, at which a message may leave; ``None`` if it never may."""
    week = open_hours(release, quiet.begins, quiet.ends)
    if not any(week):
        return None
    today, second = zone.local(instant)
    for day in range(today, today + LOOK_AHEAD):
        if day in quiet.closed:
            continue
        for hours in week[weekday(day)]:
            found = _today(instant, second, day, hours, zone) if day == today else zone.instant(day, hours[0])
            if found is not None and found >= instant:
                return found
    return None
