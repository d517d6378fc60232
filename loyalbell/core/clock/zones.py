"""Local days and wall-clock seconds of a zone in whole numbers, quick enough to ask a million times.

Instants are whole seconds since 1970-01-01T00:00Z; days are counted from 1970-01-01, and seconds of a day
from 0:00.
"""

from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

from loyalbell.core.clock.local_time import at_local

DAY = 86_400
QUARTER = 900
"""Seconds: zones change their clocks at whole quarters of an hour."""
_EPOCH = date(1970, 1, 1)


def day_number(day: date) -> int:
    return (day - _EPOCH).days


def day_of(number: int) -> date:
    return _EPOCH + timedelta(days=number)


def weekday(day: int) -> int:
    """0 is Monday; 1970-01-01 was a Thursday."""
    return (day + 3) % 7


class Zone:
    """One IANA zone. Its changes fall on whole quarters of an hour, so an offset is looked up once a
    quarter.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self._zone = ZoneInfo(name)
        self._offsets: dict[int, int] = {}
        self._days: dict[int, int | None] = {}

    def offset(self, instant: int) -> int:
        """Seconds that local time is ahead of UTC."""
        quarter = instant // QUARTER
        found = self._offsets.get(quarter)
        if found is None:
            away = datetime.fromtimestamp(quarter * QUARTER, UTC).astimezone(self._zone).utcoffset()
            found = self._offsets[quarter] = int((away or timedelta()).total_seconds())
        return found

    def local(self, instant: int) -> tuple[int, int]:
        """(day, second of the day)."""
        return divmod(instant + self.offset(instant), DAY)

    def day(self, instant: int) -> int:
        return (instant + self.offset(instant)) // DAY

    def instant(self, day: int, second: int) -> int:
        """The instant of a wall-clock time: after a gap where it is skipped, the first of two where it comes
        twice.
        """
        wall, steady = day * DAY + second, self._steady(day)
        if steady is not None:
            return wall - steady
        before, after = self.offset(wall - DAY), self.offset(wall + DAY)
        met = [wall - away for away in (before, after) if self.offset(wall - away) == away]
        return min(met) if met else self._after_gap(day, second)

    def _steady(self, day: int) -> int | None:
        """The offset of a day about which the clocks do not change."""
        if day not in self._days:
            around = {self.offset(day * DAY + away) for away in range(-DAY, 2 * DAY + 1, DAY // 4)}
            self._days[day] = around.pop() if len(around) == 1 else None
        return self._days[day]

    def _after_gap(self, day: int, second: int) -> int:
        at = time(second // 3600, second // 60 % 60, second % 60)
        return int(at_local(day_of(day), at, self.name).timestamp())


@lru_cache(maxsize=600)
def zone_of(name: str) -> Zone:
    """The one ``Zone`` of a name, so that what it has looked up is kept."""
    return Zone(name)
