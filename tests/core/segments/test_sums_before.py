"""Purchases of before the book, of which only a sum is on file, against a plain loop over people.

The rules are those of ``docs/decisions/22``: a sum counts where no order on file is as early as its last
purchase; of a period it tells that its last purchase lies in it, and its number and money where all of it
does.
"""

import unittest
from dataclasses import dataclass

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import HistorySnapshot, Orders, People
from loyalbell.core.rhythm.bands import BANDS, rhythms
from loyalbell.core.segments import model as m
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Group, Rule
from loyalbell.core.sequences.event_rows import event_rows
from loyalbell.core.sequences.plan import EventFilter
from tests.core.segments.test_every_condition import (
    COMPARED,
    DAY,
    PERIODS,
    SECONDS,
    compared,
    days_ago,
    inside,
)
from tests.support import NOW, ZONE

WHO = 3


@dataclass(frozen=True)
class Sum:
    orders: int
    money: int
    first: int
    last: int


AT = st.integers(SECONDS - 120 * DAY, SECONDS + 5 * DAY)
SUMS = st.one_of(
    st.none(),
    st.builds(
        lambda orders, money, ends, known: Sum(orders, money, min(ends) if known else NEVER, max(ends)),
        st.integers(0, 5),
        st.integers(0, 500),
        st.tuples(AT, AT),
        st.booleans(),
    ),
)
BOOKS = st.tuples(
    st.lists(SUMS, min_size=WHO, max_size=WHO),
    st.lists(st.tuples(st.integers(0, WHO - 1), AT, st.integers(0, 300)), max_size=8),
)


def book(sums: list[Sum | None], orders: list[tuple[int, int, int]]) -> HistorySnapshot:
    blank = Sum(0, 0, NEVER, NEVER)
    known = [one or blank for one in sums]
    people = People.of(
        np.arange(1, WHO + 1),
        np.full(WHO, -NEVER),
        before_orders=np.array([one.orders for one in known]),
        before_money=np.array([one.money for one in known]),
        before_first=np.array([one.first for one in known]),
        before_last=np.array([one.last for one in known]),
    )
    rows = Orders.of(
        person=[person for person, _, _ in orders],
        at=[at for _, at, _ in orders],
        money=[money for _, _, money in orders],
    )
    return HistorySnapshot(ZONE, "USD", people, orders=rows)


def holds(one: Sum | None, theirs: list[tuple[int, int]]) -> bool:
    if one is None or one.last > SECONDS:
        return False
    return all(at // DAY > one.last // DAY for at, _ in theirs if at <= SECONDS)


def expected(one: Sum | None, theirs: list[tuple[int, int]], line: m.OrdersCondition) -> bool:
    rows = sorted((at, money) for at, money in theirs if at <= SECONDS and inside(at, line.period))
    count, money = len(rows), sum(spent for _, spent in rows)
    ago = [days_ago(at) for at, _ in rows]
    first, last = (ago[0], ago[-1]) if ago else (None, None)
    if holds(one, theirs) and inside(one.last, line.period):
        number = max(one.orders, 1)
        begun = one.last if one.orders <= 1 else one.first
        whole = line.period.kind == "ever" or (begun != NEVER and inside(begun, line.period))
        count += number if whole else 1
        money += one.money if whole else 0
        of_sum = days_ago(begun) if begun != NEVER and inside(begun, line.period) else None
        last = min(x for x in (last, days_ago(one.last)) if x is not None)
        if line.period.kind == "ever" or of_sum is not None:
            first = of_sum
    if line.measure == "count":
        return compared(count, line)
    if line.measure == "sum":
        return compared(money, line)
    value = first if line.measure == "first" else last
    return value is not None and compared(value, line)


class SumsInSegments(unittest.TestCase):
    @given(
        BOOKS,
        st.builds(
            m.OrdersCondition,
            measure=st.sampled_from(("count", "sum", "first", "last")),
            comparison=COMPARED,
            value=st.integers(0, 120),
            period=PERIODS,
        ),
    )
    def test_as_a_loop_counts_them(self, given_book, line) -> None:
        sums, orders = given_book
        met = evaluate(Rule(root=Group(lines=[line])), book(sums, orders), NOW)
        for person, one in enumerate(sums):
            theirs = [(at, money) for who, at, money in orders if who == person]
            self.assertEqual(bool(met[person]), expected(one, theirs, line), (person, one, theirs))

    def test_the_first_order_of_an_old_customer_is_not_their_first(self) -> None:
        old = Sum(12, 34_050, NEVER, SECONDS - 100 * DAY)
        orders = [(0, SECONDS - 5 * DAY, 900), (1, SECONDS - 5 * DAY, 900)]
        snapshot = book([old, None, None], orders)
        for nth, who in ((1, [False, True, False]), (13, [True, False, False])):
            line = m.OrdersCondition(nth=nth)
            met = evaluate(Rule(root=Group(lines=[line])), snapshot, NOW)
            self.assertEqual(met.tolist(), who)
            rows = event_rows(EventFilter(what="order", nth=nth), snapshot, 0, SECONDS)
            self.assertEqual(rows.person.tolist(), [at for at, yes in enumerate(who) if yes])
        # narrowed to some orders, the sum says nothing
        rows = event_rows(EventFilter(what="order", nth=1, least=500), snapshot, 0, SECONDS)
        self.assertEqual(rows.person.tolist(), [0, 1])

    def test_an_order_as_early_as_the_last_purchase_silences_the_sum(self) -> None:
        """The order of that day, whatever the hour, is the purchase that the sum ends with."""
        known = Sum(12, 100, NEVER, SECONDS - 30 * DAY)
        for at, count in ((SECONDS - 30 * DAY, 1), (SECONDS - 31 * DAY, 1), (SECONDS - 28 * DAY, 13)):
            line = m.OrdersCondition(comparison="exactly", value=count)
            met = evaluate(Rule(root=Group(lines=[line])), book([known, None, None], [(0, at, 5)]), NOW)
            self.assertTrue(met[0], (at, count))

    def test_the_rhythm_of_who_has_only_a_sum(self) -> None:
        """Ten purchases from 400 to 40 days ago: a gap of 40 days, last seen 40 days ago, so in rhythm."""
        known = Sum(10, 100, SECONDS - 400 * DAY, SECONDS - 40 * DAY)
        found = rhythms(book([known, None, None], []), SECONDS, 20.0)
        self.assertEqual(found.purchases.tolist(), [10, 0, 0])
        # leaning on the shop's 20 days as if that were two gaps more: (9 x 40 + 2 x 20) / 11
        self.assertAlmostEqual(found.gap[0], 400 / 11)
        self.assertEqual(BANDS[found.band[0]], "in rhythm")
        self.assertEqual(found.band[1], -1)


if __name__ == "__main__":
    unittest.main()
