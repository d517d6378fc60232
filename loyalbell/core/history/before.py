"""Purchases of before this book, of which only a sum is on file: how many, for how much, the first, the last.

A sum speaks for a time of which there are no orders. Whoever has an order as early as the last purchase that
their sum tells of has that time in the book itself: the orders speak alone, and nothing is counted twice.
"""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.history.columns import NEVER, Ints, Mask, Small
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import local_days


@dataclass(frozen=True)
class Before:
    """By person number. ``holds``: for whom the sum speaks. ``orders`` is at least 1 there and 0 elsewhere,
    ``money`` minor units, ``first`` and ``last`` instants; ``first`` is ``NEVER`` where it is not known.
    """

    holds: Mask
    orders: Ints
    money: Ints
    first: Ints
    last: Ints

    def last_day(self, zone: str) -> Ints:
        """Days since 1970-01-01; 0 for whom nothing holds."""
        days = np.zeros(len(self.holds), dtype=np.int64)
        days[self.holds] = local_days(self.last[self.holds], zone)
        return days

    def usual_gap(self) -> tuple[Ints, Ints]:
        """How many gaps each sum tells of, and their mean in days; 0 where the first day is not known."""
        known = self.holds & (self.orders > 1) & (self.first < self.last)
        gaps = np.where(known, self.orders - 1, 0)
        days = np.zeros(len(known), dtype=np.int64)
        days[known] = np.rint((self.last[known] - self.first[known]) / 86_400 / gaps[known]).astype(np.int64)
        return gaps, days


def before(snapshot: HistorySnapshot, as_of: int) -> Before | None:
    """What the sums say as of an instant; ``None`` where nobody has one. One that reaches beyond the instant
    says nothing yet.
    """
    people = snapshot.people
    holds = people.before_last <= as_of
    if not bool(holds.any()):
        return None
    first_order = np.full(len(people), NEVER, dtype=np.int64)
    rows = snapshot.orders.span(-(2**62), as_of)
    person: Small = snapshot.orders.person[rows]
    first_order[person[::-1]] = snapshot.orders.at[rows][::-1]
    holds &= _whole_days(first_order) > _whole_days(people.before_last)
    orders = np.where(holds, np.maximum(people.before_orders, 1), 0)
    money = np.where(holds, people.before_money, 0)
    first = np.where((people.before_orders <= 1) & holds, people.before_last, people.before_first)
    return Before(holds, orders, money, first, people.before_last)


def _whole_days(at: Ints) -> Ints:
    """Whole days, so that a sum's last purchase and the order that it was are the same, whatever the hour."""
    return at // 86_400
