"""The shop-wide holdout: a small share of all customers who get no marketing for a quarter, so that it can be
told what everything together adds. Pure.

Who is in it is drawn by a keyed hash of person and quarter: anew each quarter, so that nobody is left out for
good.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta

from loyalbell.core.policy.assignment import held_back, held_back_among


def quarter_of(day: date) -> str:
    """Such as ``2026-2``, by the calendar."""
    return f"{day.year}-{(day.month - 1) // 3 + 1}"


def first_day(quarter: str) -> date:
    year, number = quarter.split("-")
    return date(int(year), 3 * int(number) - 2, 1)


def last_day(quarter: str) -> date:
    first = first_day(quarter)
    later = date(first.year + (first.month + 2) // 12, (first.month + 2) % 12 + 1, 1)
    return later - timedelta(days=1)


@dataclass(frozen=True)
class Holdout:
    """``percent`` holds for every quarter from ``since`` on, save those in ``fixed``: quarters that had begun
    when it was changed keep what held in them.
    """

    percent: int = 0
    since: date | None = None
    fixed: Mapping[str, int] = field(default_factory=dict)

    def share(self, quarter: str) -> int:
        """Per cent in a quarter; 0 before it was first switched on."""
        if quarter in self.fixed:
            return self.fixed[quarter]
        return self.percent if self.since is not None and quarter >= quarter_of(self.since) else 0

    def holds(self, person_id: int, day: date) -> bool:
        """Whether somebody gets no marketing on a local day of the shop."""
        return self.since is not None and day >= self.since and self.draws(person_id, quarter_of(day))

    def draws(self, person_id: int, quarter: str) -> bool:
        """Whether somebody is of those who are left out in a quarter."""
        return held_back(f"shop-wide {quarter}", person_id, self.share(quarter))

    def draws_among(self, people: Sequence[int], quarter: str) -> list[bool]:
        """``draws`` of many."""
        return held_back_among(f"shop-wide {quarter}", people, self.share(quarter))

    def quarters(self, today: date) -> list[tuple[date, date]]:
        """(first, last day) of every quarter in which some are left out, up to the one of ``today``."""
        found = []
        for quarter in sorted({*self.fixed, *self._since_then(quarter_of(today))}):
            begins = first_day(quarter)
            if self.since is not None and quarter_of(self.since) == quarter:
                begins = max(begins, self.since)
            if self.share(quarter) and begins <= today:
                found.append((begins, last_day(quarter)))
        return found

    def changed(self, percent: int, today: date) -> "Holdout":
        """With another share from the next quarter on; at once where nobody is left out yet.

        A quarter that has begun keeps its group: people moved in and out would spoil the comparison. 0 ends
        it at once.
        """
        now = quarter_of(today)
        kept = {quarter: self.share(quarter) for quarter in (*self.fixed, *self._since_then(now))}
        if percent == 0:
            return Holdout(0, self.since, kept | {now: 0})
        if not self.share(now):
            return Holdout(percent, today, kept | {now: percent})
        return Holdout(percent, self.since, kept | {now: self.share(now)})

    def _since_then(self, now: str) -> list[str]:
        """The quarters from the first one up to ``now``."""
        if self.since is None:
            return []
        found = [quarter_of(self.since)]
        while found[-1] < now:
            found.append(quarter_of(last_day(found[-1]) + timedelta(days=1)))
        return found
