"""The instant at which a rule is asked, and what its periods mean then."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cached_property

import numpy as np

from loyalbell.core.clock.local_time import days_before, start_of_day
from loyalbell.core.history.columns import Ints, Mask, Small
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import today_number
from loyalbell.core.segments.periods import (
    AfterJoining,
    BeforeLastDays,
    BetweenDates,
    BetweenDaysAgo,
    LastDays,
    Period,
    SinceEntering,
)

BEGINNING = -(2**62)
DAY = 86_400


@dataclass(frozen=True)
class EvaluationContext:
    """``entered`` is when the person asked about came into the sequence that asks, if one does."""

    snapshot: HistorySnapshot
    as_of: datetime
    entered: int | None = None

    @cached_property
    def now(self) -> int:
        """Whole seconds since 1970."""
        return int(self.as_of.timestamp())

    @cached_property
    def today(self) -> int:
        """The local day, as days since 1970-01-01."""
        return today_number(self.now, self.snapshot.zone)

    def day_start(self, days_ago: int) -> int:
        """The first second of the local day so many days ago; -1 is tomorrow's."""
        return _start(self.as_of, days_ago, self.snapshot.zone)

    @property
    def size(self) -> int:
        return len(self.snapshot.people)

    def span(self, period: Period) -> tuple[int, int]:
        """First and last second that a period covers; the last is never after the instant."""
        return bounds(period, self.as_of, self.snapshot.zone)

    def inside(self, period: Period, person: Small, at: Ints) -> Mask | None:
        """For periods that differ from person to person: which rows lie in them; ``None`` for all others."""
        if isinstance(period, SinceEntering):
            return at > self.entered if self.entered is not None else np.zeros(len(at), dtype=np.bool_)
        if not isinstance(period, AfterJoining):
            return None
        joined = self.joined[person]
        return (at >= joined) & (at < joined + period.days * DAY)

    @cached_property
    def joined(self) -> Ints:
        """When each became a customer: as said, or by the first order."""
        joined = self.snapshot.people.joined_at.copy()
        orders = self.snapshot.orders
        np.minimum.at(joined, orders.person, orders.at)
        return joined


def bounds(period: Period, as_of: datetime, zone: str) -> tuple[int, int]:
    """First and last second that a period covers; the last is never after ``as_of``."""
    now = int(as_of.timestamp())
    if isinstance(period, LastDays | BeforeLastDays):
        edge = _start(as_of, period.days - 1, zone)
        return (edge, now) if isinstance(period, LastDays) else (BEGINNING, edge - 1)
    if isinstance(period, BetweenDaysAgo):
        return _start(as_of, period.most, zone), min(now, _start(as_of, period.least - 1, zone) - 1)
    if isinstance(period, BetweenDates):
        first = int(start_of_day(period.first, zone).timestamp())
        last = int(start_of_day(period.last + timedelta(days=1), zone).timestamp()) - 1
        return first, min(now, last)
    return BEGINNING, now


def _start(as_of: datetime, days_ago: int, zone: str) -> int:
    try:
        return int(start_of_day(days_before(as_of, days_ago, zone), zone).timestamp())
    except OverflowError:
        return int(datetime(1, 1, 2, tzinfo=UTC).timestamp())
