"""BG/NBD and gamma-gamma against what their authors printed for the CDNOW sample."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.rhythm.customer_value import (
    BgNbd,
    Summary,
    TooLittle,
    calibrate,
    fit_bgnbd,
    fit_gamma_gamma,
    summarise,
    summary,
)
from tests.core.rhythm.cdnow import CALIBRATED, ENDED, noon, snapshot

# Fader, Hardie and Lee, Marketing Science 24 (2005), Table 2 and the example of section 5
PAPER = BgNbd(0.243, 4.414, 0.793, 2.426, -9582.4, "weeks")


def one(x: float, recency: float, age: float) -> Summary:
    return Summary(np.zeros(1, dtype=np.int64), *(np.array([float(n)]) for n in (x, recency, age, 0)))


class Cdnow(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.snapshot = snapshot()
        cls.made = summary(cls.snapshot, noon(CALIBRATED), "weeks")
        cls.model = fit_bgnbd(cls.made, "weeks")

    def test_the_sample(self) -> None:
        self.assertEqual(len(self.made), 2357)
        self.assertEqual(int((self.made.frequency > 0).sum()), 946)

    def test_bgnbd_as_printed(self) -> None:
        for name, digits in (("r", 3), ("alpha", 2), ("a", 2), ("b", 2)):
            self.assertAlmostEqual(getattr(self.model, name), getattr(PAPER, name), digits)
        self.assertAlmostEqual(self.model.log_likelihood, PAPER.log_likelihood, 1)

    def test_the_customer_of_the_paper(self) -> None:
        self.assertAlmostEqual(float(PAPER.expected(one(2, 30.43, 38.86), 39)[0]), 1.226, 3)

    def test_gamma_gamma_as_refitted(self) -> None:
        # p = 6.25, q = 3.74, v = 15.45 by maximum likelihood on the 946 (Fader and Hardie 2013)
        found = fit_gamma_gamma(self.made, 2)
        self.assertAlmostEqual(found.p, 6.25, 1)
        self.assertAlmostEqual(found.q, 3.74, 1)
        self.assertAlmostEqual(found.v, 15.45, 0)

    def test_the_forecast_runs_a_tenth_low_and_says_so(self) -> None:
        found = calibrate(self.snapshot, noon(ENDED), noon(CALIBRATED), "weeks")
        self.assertEqual((found.buyers, round(found.ahead)), (2357, 39))
        ratio = found.expected / found.came
        self.assertTrue(0.85 < ratio < 0.95, ratio)
        self.assertEqual(sum(buyers for _, _, buyers, _, _ in found.bins), 2357)
        self.assertAlmostEqual(sum(n * came for _, _, n, _, came in found.bins), found.came, 6)

    def test_days_and_weeks_expect_the_same(self) -> None:
        by_day = summary(self.snapshot, noon(CALIBRATED), "days")
        model = fit_bgnbd(by_day, "days")
        self.assertAlmostEqual(model.alpha / 7, self.model.alpha, 1)
        in_days, in_weeks = model.expected(by_day, 91), self.model.expected(self.made, 13)
        self.assertAlmostEqual(float(in_days.sum()), float(in_weeks.sum()), 0)


class AnyHistory(unittest.TestCase):
    def test_too_little(self) -> None:
        with self.assertRaises(TooLittle):
            fit_bgnbd(one(1, 1, 2), "days")
        with self.assertRaises(TooLittle):
            fit_gamma_gamma(one(1, 1, 2), 2)

    @settings(max_examples=50)
    @given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 60), st.integers(0, 500)), max_size=40))
    def test_summaries_against_a_plain_loop(self, rows: list[tuple[int, int, int]]) -> None:
        table = np.array(rows, dtype=np.int64).reshape(-1, 3)
        found = summarise(table[:, 0].astype(np.int32), table[:, 1], table[:, 2], 70, 7.0)
        for at, person in enumerate(sorted({row[0] for row in rows})):
            spent: dict[int, int] = {}
            for _, day, money in (row for row in rows if row[0] == person):
                spent[day] = spent.get(day, 0) + money
            days = sorted(spent)
            repeats = days[1:]
            self.assertEqual(int(found.person[at]), person)
            self.assertEqual(float(found.frequency[at]), len(repeats))
            self.assertAlmostEqual(float(found.recency[at]), (days[-1] - days[0]) / 7)
            self.assertAlmostEqual(float(found.age[at]), (70 - days[0]) / 7)
            mean = sum(spent[day] for day in repeats) / len(repeats) if repeats else 0
            self.assertAlmostEqual(float(found.money[at]), mean)

    @given(st.integers(0, 20), st.floats(0, 30), st.floats(0, 30), st.floats(0.1, 60))
    def test_more_time_expects_more(self, x: int, recency: float, more: float, ahead: float) -> None:
        made = one(x, recency if x else 0, recency + more)
        sooner, later = (float(PAPER.expected(made, one)[0]) for one in (ahead, ahead * 2))
        self.assertTrue(0 <= sooner <= later + 1e-9, (sooner, later))
        self.assertTrue(0 <= float(PAPER.alive(made)[0]) <= 1)
