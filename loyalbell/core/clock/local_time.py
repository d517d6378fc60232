"""Local days and wall-clock times in the shop's or a person's zone.

Instants are aware ``datetime`` values or whole seconds since 1970-01-01T00:00Z;
zones are IANA names. Nothing here reads a clock.
"""

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo


def at_local(day: date, clock_time: time, zone: str) -> datetime:
    """The instant, in UTC, of a wall-clock time on a local day.

    A time that the spring change skips becomes the first instant after the gap;
    one that the autumn change repeats means the first of the two.
    """
    local = datetime.combine(day, clock_time, ZoneInfo(zone))
    instant = local.astimezone(UTC)
    if instant.astimezone(ZoneInfo(zone)).replace(tzinfo=None) == local.replace(tzinfo=None):
        return instant
    return _end_of_gap(local, zone)


def _end_of_gap(local: datetime, zone: str) -> datetime:
    before = local.replace(fold=0).utcoffset() or timedelta()
    after = local.replace(fold=1).utcoffset() or timedelta()
    low = local.replace(tzinfo=UTC) - max(before, after)
    high = local.replace(tzinfo=UTC) - min(before, after)
    changed = high.astimezone(ZoneInfo(zone)).utcoffset()
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) // 2
        if middle.astimezone(ZoneInfo(zone)).utcoffset() == changed:
            high = middle
        else:
            low = middle
    return high.replace(microsecond=0)


def local_day(instant: datetime, zone: str) -> date:
    return instant.astimezone(ZoneInfo(zone)).date()


def start_of_day(day: date, zone: str) -> datetime:
    """The first instant, in UTC, of a local day."""
    return at_local(day, time(), zone)


def days_before(as_of: datetime, days: int, zone: str) -> date:
    """The local day that lies ``days`` whole calendar days before the day of ``as_of``."""
    return local_day(as_of, zone) - timedelta(days=days)


def whole_days_between(earlier: datetime, later: datetime, zone: str) -> int:
    """Calendar days from one instant's local day to another's."""
    return (local_day(later, zone) - local_day(earlier, zone)).days
