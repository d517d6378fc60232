"""The days for which results are asked."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

RANGES = {
    "7": "7 days",
    "30": "30 days",
    "90": "90 days",
    "this month": "this month",
    "last month": "last month",
    "year": "a year",
    "own": "own dates",
}
USUAL = "year"


class RangeProblem(ValueError):
    """What is wrong with dates that somebody gave, in words."""


@dataclass(frozen=True)
class Days:
    """From the first to the last local day, both included. ``key`` is of ``RANGES``."""

    key: str
    first: date
    last: date
    zone: str

    @property
    def low(self) -> int:
        """The first instant, in seconds since 1970."""
        return self._instant(self.first)

    @property
    def high(self) -> int:
        """The last second."""
        return self._instant(self.last + timedelta(days=1)) - 1

    @property
    def instants(self) -> tuple[datetime, datetime]:
        """The first and the last second."""
        low, high = (datetime.fromtimestamp(at, UTC) for at in (self.low, self.high))
        return low, high

    def _instant(self, day: date) -> int:
        return int(datetime.combine(day, time(), ZoneInfo(self.zone)).timestamp())

    def __len__(self) -> int:
        return (self.last - self.first).days + 1


def days_of(key: str, today: date, zone: str, first: str = "", last: str = "") -> Days:
    """Up to today, which counts as the last day; ``own`` takes the dates given (ISO).

    Raises ``RangeProblem``.
    """
    if key == "own":
        return _own(today, zone, first, last)
    if key == "this month":
        return Days(key, today.replace(day=1), today, zone)
    if key == "last month":
        ends = today.replace(day=1) - timedelta(days=1)
        return Days(key, ends.replace(day=1), ends, zone)
    if key == "year":
        return Days(key, _a_year_before(today) + timedelta(days=1), today, zone)
    key = key if key in RANGES else "30"
    return Days(key, today - timedelta(days=int(key) - 1), today, zone)


def _a_year_before(day: date) -> date:
    try:
        return day.replace(year=day.year - 1)
    except ValueError:
        return day.replace(year=day.year - 1, day=28)


def _own(today: date, zone: str, first: str, last: str) -> Days:
    try:
        begins = date.fromisoformat(first) if first else today - timedelta(days=29)
        ends = date.fromisoformat(last) if last else today
    except ValueError as problem:
        raise RangeProblem("Write the dates as year-month-day, such as 2026-05-12.") from problem
    if begins > ends:
        raise RangeProblem("The first day lies after the last one.")
    if not (date(1990, 1, 1) <= begins and ends <= date(2200, 1, 1)):
        raise RangeProblem("Choose days between 1990 and 2200.")
    return Days("own", begins, ends, zone)
