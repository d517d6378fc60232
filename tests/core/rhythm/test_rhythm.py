"""Repeat curves, bands, grid, concentration and cohorts against reference libraries and plain loops."""

import unittest
import warnings
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st
from lifelines import KaplanMeierFitter

from loyalbell.core.history.snapshot import HistorySnapshot, Orders, People
from loyalbell.core.history.visits import day_number
from loyalbell.core.rhythm.bands import BANDS, personal_rhythm, rhythms
from loyalbell.core.rhythm.cohorts import cohorts, say_month
from loyalbell.core.rhythm.concentration import concentration
from loyalbell.core.rhythm.return_curve import buying_days, first_gaps, gaps, repeat_curve
from loyalbell.core.rhythm.rfm import grid, scores
from tests.core.rhythm.cdnow import CALIBRATED, noon, snapshot

NOW = int(datetime(2026, 5, 12, 13, 40, tzinfo=UTC).timestamp())
TODAY = day_number(date(2026, 5, 12))
BOOKS = st.lists(st.tuples(st.integers(0, 5), st.integers(0, 400), st.integers(1, 900)), max_size=60)


def book(rows: list[tuple[int, int, int]], people: int = 6) -> HistorySnapshot:
    """Orders as (person, days ago, cents)."""
    table = np.array(rows, dtype=np.int64).reshape(-1, 3)
    at = NOW - table[:, 1] * 86_400
    return HistorySnapshot(
        "UTC",
        "USD",
        People.of(np.arange(1, people + 1), np.full(people, -(2**40))),
        Orders.of(person=table[:, 0], at=at, money=table[:, 2]),
    )


def days_of(rows: list[tuple[int, int, int]], person: int) -> list[int]:
    return sorted({TODAY - ago for who, ago, _ in rows if who == person})


class Repeat(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 120), st.booleans()), min_size=1, max_size=80))
    def test_the_curve_and_its_bounds_are_those_of_lifelines(self, waits: list[tuple[int, bool]]) -> None:
        length, came = np.array([n for n, _ in waits]), np.array([b for _, b in waits])
        found = repeat_curve(length, came)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            fitted = KaplanMeierFitter().fit(length, came)
            bounds = fitted.confidence_interval_survival_function_
        for at, day in enumerate(found.days):
            self.assertAlmostEqual(found.not_back[at], fitted.predict(day), 10)
            if 0 < found.not_back[at] < 1:
                low, high = bounds.loc[float(day)]
                self.assertAlmostEqual(found.low[at], low, 6)
                self.assertAlmostEqual(found.high[at], high, 6)

    def test_a_median_of_finished_gaps_alone_would_be_short(self) -> None:
        whole = snapshot()
        length, came = gaps(buying_days(whole, noon(CALIBRATED)), day_number(CALIBRATED))
        curve = repeat_curve(length, came)
        self.assertEqual((curve.waits, curve.returned), (len(length), int(came.sum())))
        first = repeat_curve(*first_gaps(buying_days(whole, noon(CALIBRATED)), day_number(CALIBRATED)))
        self.assertEqual((first.waits, first.returned), (2357, 946))
        self.assertGreater(curve.at(float(np.median(length[came]))), 0.5)
        self.assertLess(curve.typical or 0, curve.winback_line() or 0)
        self.assertAlmostEqual(curve.still_come(0), curve.ever)
        self.assertGreater(curve.still_come(30), curve.still_come(120))

    @given(BOOKS)
    def test_gaps_against_a_plain_loop(self, rows: list[tuple[int, int, int]]) -> None:
        length, came = gaps(buying_days(book(rows), NOW), TODAY)
        expected = []
        for person in range(6):
            days = days_of(rows, person)
            expected += [(later - earlier, True) for earlier, later in pairwise(days)]
            expected += [(TODAY - days[-1], False)] if days else []
        self.assertEqual(sorted(zip(length.tolist(), came.tolist(), strict=True)), sorted(expected))

    def test_nobody_and_nothing(self) -> None:
        empty = repeat_curve(*gaps(buying_days(book([]), NOW), TODAY))
        self.assertEqual(
            (empty.ever, empty.typical, empty.winback_line(), empty.at(30)), (0.0, None, None, 1.0)
        )


class Bands(unittest.TestCase):
    @given(BOOKS, st.integers(1, 90))
    def test_the_whole_book_as_person_by_person(self, rows: list[tuple[int, int, int]], shop: int) -> None:
        found = rhythms(book(rows), NOW, float(shop))
        for person in range(6):
            alone = personal_rhythm(days_of(rows, person), TODAY, float(shop))
            if alone is None:
                self.assertEqual(found.band[person], -1)
                continue
            self.assertEqual(BANDS[found.band[person]], alone.band)
            self.assertAlmostEqual(found.gap[person], alone.expected_gap)
            self.assertEqual(int(found.purchases[person]), alone.purchases)

    def test_the_edges(self) -> None:
        # gaps of 20 days, shop 20: expected 20; late from 25, quiet from 40, silent from 80 (rules: 1.25, 2
        # and 4 times)
        for since, band in (
            (0, "in rhythm"),
            (25, "in rhythm"),
            (26, "late"),
            (40, "late"),
            (41, "quiet"),
            (80, "quiet"),
            (81, "silent"),
        ):
            days = [TODAY - since - 40, TODAY - since - 20, TODAY - since]
            self.assertEqual(personal_rhythm(days, TODAY, 20.0).band, band, since)  # type: ignore[union-attr]
            self.assertEqual(
                personal_rhythm([TODAY - since], TODAY, 20.0).band, "new" if since <= 25 else band
            )  # type: ignore[union-attr]


class Grids(unittest.TestCase):
    @given(st.lists(st.integers(-1_000, 1_000), unique=True, min_size=5, max_size=300))
    def test_quintiles_of_pandas_where_nothing_is_tied(self, values: list[int]) -> None:
        found = pd.qcut(pd.Series(values), 5, labels=False) + 1
        self.assertEqual(scores(np.array(values)).tolist(), found.tolist())

    def test_ties_by_hand(self) -> None:
        # n = 10: seven ones, then 2, 3, 4. k of the ones is 7: (7-1)/9 = 0.667 -> 4; 2: 7/9 -> 4; 3: 8/9 ->
        # 5; 4: 1 -> 5
        self.assertEqual(scores(np.array([1] * 7 + [2, 3, 4])).tolist(), [4] * 7 + [4, 5, 5])
        self.assertEqual(scores(np.array([3, 3, 3])).tolist(), [5, 5, 5])
        self.assertEqual((scores(np.array([7])).tolist(), scores(np.array([])).tolist()), ([5], []))

    @given(BOOKS)
    def test_every_buyer_is_in_one_cell(self, rows: list[tuple[int, int, int]]) -> None:
        found = grid(book(rows), NOW)
        self.assertEqual(int(found.count.sum()), len({person for person, _, _ in rows}))
        self.assertEqual(int(found.spent.sum()), sum(money for _, _, money in rows))


class Concentrations(unittest.TestCase):
    @given(BOOKS, st.integers(1, 100))
    def test_against_a_plain_loop(self, rows: list[tuple[int, int, int]], percent: int) -> None:
        found = concentration(book(rows), NOW)
        spent: dict[int, int] = {}
        for person, _, money in rows:
            spent[person] = spent.get(person, 0) + money
        best = sorted(spent.values(), reverse=True)
        count = -(-percent * len(best) // 100)
        self.assertEqual(found.top_count(percent / 100), count)
        self.assertAlmostEqual(found.top_share(percent / 100), sum(best[:count]) / sum(best) if best else 0)
        self.assertEqual(int(found.top_people(percent / 100).sum()), count)
        self.assertTrue(-1e-9 <= found.gini < 1)

    def test_gini_by_hand(self) -> None:
        # incomes 1, 2, 3, 4: (2*(1*1+2*2+3*3+4*4)/(4*10)) - 5/4 = 0.25 (the textbook formula on sorted
        # incomes)
        self.assertAlmostEqual(concentration(book([(p, 1, p + 1) for p in range(4)]), NOW).gini, 0.25)
        self.assertEqual(concentration(book([(0, 5, 10), (1, 500, 10)]), NOW, days=30).people, 1)


class CohortPicture(unittest.TestCase):
    @settings(max_examples=60)
    @given(BOOKS)
    def test_against_pandas(self, rows: list[tuple[int, int, int]]) -> None:
        found = cohorts(book(rows), NOW)
        if not rows:
            self.assertEqual(len(found.months), 0)
            return
        frame = pd.DataFrame(rows, columns=["person", "ago", "money"])
        now = datetime.fromtimestamp(NOW, UTC).replace(tzinfo=None)
        frame["month"] = [pd.Period(now - timedelta(days=int(ago)), "M") for ago in frame.ago]
        frame["first"] = frame.groupby("person").month.transform("min")
        frame["later"] = [(m - f).n for m, f in zip(frame.month, frame["first"], strict=True)]
        counts = frame.groupby(["first", "later"]).person.nunique()
        for row, month in enumerate(found.months):
            for later, active in enumerate(found.active[row]):
                if active >= 0:
                    self.assertEqual(active, counts.get((pd.Period(say_month(month)), later), 0))
        self.assertEqual(int(found.sizes.sum()), frame.person.nunique())
