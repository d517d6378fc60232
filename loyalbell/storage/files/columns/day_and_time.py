"""A day in one column and the time of day in another, joined before they are read."""

import re
from collections.abc import Mapping, Sequence

PARTNERS = {"placed": "placed_time", "starts_at": "starts_time", "at": "at_time"}
"""Targets of a day, each with that of its time of day."""
_MIDNIGHT = re.compile(r"[ T]0{1,2}:00(?::00(?:\.0+)?)?$")
_HAS_CLOCK = re.compile(r"\d[ T]+\d{1,2}[:.h]\d{2}")
_FRACTION = re.compile(r"^0?[.,]\d+$")
_NO_DAY = re.compile(r"^(?:1899-12-3[01]|1900-01-0[01]|30\.12\.1899)[ T]")
_BARE = re.compile(r"^(\d{1,2})(\d{2})$")


class DayAndTime:
    """For each day's column the one with its time; ``columns`` maps targets to columns."""

    def __init__(self, columns: Mapping[str, int]) -> None:
        self.pairs = [
            (columns[day], columns[clock])
            for day, clock in PARTNERS.items()
            if day in columns and clock in columns
        ]

    def join(self, cells: list[str]) -> list[str]:
        """The row with each time put to its day."""
        if not self.pairs:
            return cells
        joined = list(cells)
        for day, clock in self.pairs:
            if max(day, clock) < len(cells):
                joined[day] = join_clock(cells[day], cells[clock])
        return joined

    def join_column(self, day: Sequence[str], clock: Sequence[str]) -> list[str]:
        return list(map(join_clock, day, clock))


def join_clock(day: str, clock: str) -> str:
    """One text of a day and a time of day; the day alone where it has a time or there is none."""
    clock = _NO_DAY.sub("", clock.strip())
    day = _MIDNIGHT.sub("", day.strip())
    if not clock or not day or _HAS_CLOCK.search(day):
        return day
    if _FRACTION.match(clock):
        minutes = round(float(clock.replace(",", ".")) * 1_440)
        clock = f"{minutes // 60:02}:{minutes % 60:02}"
    elif bare := _BARE.match(clock):
        clock = f"{bare[1]}:{bare[2]}"
    return f"{day} {clock}"
