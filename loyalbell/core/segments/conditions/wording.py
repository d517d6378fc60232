"""Words that conditions share: periods, counts, amounts, and what the numbers in a rule are called."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from loyalbell.core.history.money import say_money
from loyalbell.core.history.snapshot import Catalogue
from loyalbell.core.segments.periods import (
    AfterJoining,
    BeforeLastDays,
    BetweenDates,
    BetweenDaysAgo,
    Ever,
    LastDays,
    Period,
    SinceEntering,
)

GONE = "something that is no longer on file"


@dataclass(frozen=True)
class Saying:
    """What the ids in a rule are called: the catalogue, and segments and messages by id."""

    currency: str = "USD"
    catalogue: Catalogue = field(default_factory=Catalogue)
    segments: Mapping[int, str] = field(default_factory=dict)
    messages: Mapping[int, str] = field(default_factory=dict)
    offers: Mapping[int, str] = field(default_factory=dict)
    sequences: Mapping[int, str] = field(default_factory=dict)
    country: str = "US"

    def money(self, minor: int) -> str:
        return say_money(minor, self.currency, country=self.country)


def say_period(period: Period) -> str:
    if isinstance(period, LastDays):
        return "today" if period.days == 1 else f"in the last {period.days} days"
    if isinstance(period, BeforeLastDays):
        return "before today" if period.days == 1 else f"more than {period.days} days ago"
    if isinstance(period, BetweenDaysAgo):
        if period.least == period.most:
            return "today" if period.least == 0 else f"exactly {period.least} days ago"
        return f"{period.least} to {period.most} days ago"
    if isinstance(period, BetweenDates):
        return f"from {period.first.day} {period.first:%b %Y} to {period.last.day} {period.last:%b %Y}"
    if isinstance(period, AfterJoining):
        return f"in their first {period.days} days"
    if isinstance(period, SinceEntering):
        return "since they came into the sequence"
    return "ever"


def say_when(line: Any) -> str:
    """The period; a first or a last of all time is said without one."""
    ever = isinstance(line.period, Ever) and getattr(line, "measure", "count") in ("first", "last")
    return "" if ever else say_period(line.period)


def say_times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count:,} times")


def says_never(line: Any) -> bool:
    """Whether the line means that nothing happened at all."""
    return bool(line.value == 0 and line.comparison in ("exactly", "at most"))


def say_measure(line: Any, saying: Saying) -> str:
    """``at least twice``, ``at least $100.00 in all``, ``last at least 60 days ago``; empty for never."""
    measure = getattr(line, "measure", "count")
    if measure == "count":
        return "" if says_never(line) else f"{line.comparison} {say_times(line.value)}"
    if measure == "sum":
        return f"for {line.comparison} {saying.money(line.value)}"
    if measure == "average":
        return f"for {line.comparison} {saying.money(line.value)} on average"
    if measure == "quantity":
        return f"{line.comparison} {line.value:,} of them"
    if measure == "days":
        return f"on {line.comparison} {line.value:,} different {'day' if line.value == 1 else 'days'}"
    ago = "today" if line.value == 0 else "yesterday" if line.value == 1 else f"{line.value:,} days ago"
    return f"{'first' if measure == 'first' else 'last'} {line.comparison} {ago}"


def say_named(names: Mapping[int, str], at: int | None, before: str) -> str:
    return "" if at is None else f"{before} {names.get(at, GONE)}"


def join(*parts: str) -> str:
    return " ".join(part for part in parts if part)


def ordinal(number: int) -> str:
    ending = "th" if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"
