"""What messages added, held against published examples, reference libraries and worlds of known truth."""

import unittest

import numpy as np
from statsmodels.stats.proportion import confint_proportions_2indep
from statsmodels.stats.weightstats import CompareMeans, DescrStatsW

from loyalbell.core.results.lift import (
    Outcomes,
    adjusted,
    any_time,
    any_time_reach,
    mean_difference,
    share_difference,
)

SEED = 20_260_512


class PlainTest(unittest.TestCase):
    def test_newcombe_printed_example(self) -> None:
        """Newcombe 1998 (Statistics in Medicine 17:873-890): 56/70 and 48/80, method 10."""
        found = share_difference(56, 70, 48, 80)
        self.assertAlmostEqual(found.low, 0.0524, places=4)
        self.assertAlmostEqual(found.high, 0.3339, places=4)
        self.assertAlmostEqual(found.best, 0.2)

    def test_shares_as_statsmodels(self) -> None:
        """``statsmodels.stats.proportion.confint_proportions_2indep(method="newcomb")``."""
        for one, of, other, of_other in (
            (0, 20, 0, 30),
            (3, 40, 9, 41),
            (472, 2812, 84, 702),
            (50, 50, 1, 60),
        ):
            with self.subTest(one=one, of=of):
                low, high = confint_proportions_2indep(one, of, other, of_other, method="newcomb")
                found = share_difference(one, of, other, of_other)
                self.assertAlmostEqual(found.low, low, places=9)
                self.assertAlmostEqual(found.high, high, places=9)

    def test_means_as_statsmodels(self) -> None:
        """``CompareMeans.tconfint_diff(usevar="unequal")``: Welch and Satterthwaite."""
        rng = np.random.default_rng(SEED)
        for size, other in ((12, 9), (400, 37)):
            one, two = rng.gamma(2, 900, size), rng.gamma(1, 1_500, other)
            low, high = CompareMeans(DescrStatsW(one), DescrStatsW(two)).tconfint_diff(usevar="unequal")
            found = mean_difference(Outcomes.of(one), Outcomes.of(two))
            self.assertAlmostEqual(found.low, low, places=6)
            self.assertAlmostEqual(found.high, high, places=6)

    def test_nothing_is_said_of_nobody(self) -> None:
        for empty in ((0, 0, 1, 5), (1, 5, 0, 0)):
            with self.assertRaises(ValueError):
                share_difference(*empty)
        with self.assertRaises(ValueError):
            mean_difference(Outcomes.of([1.0]), Outcomes.of([1.0, 2.0]))
        same = mean_difference(Outcomes.of([2.0, 2.0]), Outcomes.of([1.0, 1.0]))
        self.assertEqual(same, (1.0, 1.0, 1.0))

    def test_intervals_cover_the_truth_in_a_thousand_worlds(self) -> None:
        """rules.md section 7: 95 % intervals cover the truth in 93 to 97 % of seeded worlds."""
        rng = np.random.default_rng(SEED)
        shares, means, effect, worlds = 0, 0, 0.05, 1_000
        for _ in range(worlds):
            treated, held = rng.random(600) < 0.12 + effect, rng.random(200) < 0.12
            found = share_difference(int(treated.sum()), 600, int(held.sum()), 200)
            shares += found.low <= effect <= found.high
            spent = Outcomes.of(treated * rng.gamma(2, 10, 600)), Outcomes.of(held * rng.gamma(2, 10, 200))
            money = mean_difference(*spent)
            means += money.low <= effect * 20 <= money.high
        self.assertTrue(0.93 <= shares / worlds <= 0.97, shares)
        self.assertTrue(0.93 <= means / worlds <= 0.97, means)


class NarrowedTest(unittest.TestCase):
    """Deng, Xu, Kohavi, Walker (WSDM 2013): unbiased, with (1 - rho^2) of the plain variance."""

    def world(self, rng: np.random.Generator, effect: float) -> tuple[Outcomes, Outcomes]:
        before = rng.normal(100, 30, 1_000)
        after = 0.8 * before + rng.normal(0, 18, 1_000)
        is_held = rng.random(1_000) < 0.2
        after[~is_held] += effect
        return Outcomes.of(after[~is_held], before[~is_held]), Outcomes.of(after[is_held], before[is_held])

    def test_unbiased_and_narrower_by_what_was_known(self) -> None:
        rng, effect = np.random.default_rng(SEED), 5.0
        plain, narrowed = [], []
        for _ in range(1_500):
            treated, held = self.world(rng, effect)
            plain.append(treated.mean - held.mean)
            one, other = adjusted(treated, held)
            narrowed.append(one.mean - other.mean)
        self.assertAlmostEqual(float(np.mean(narrowed)), effect, delta=4 * np.std(narrowed) / 1_500**0.5)
        rho_squared = (0.8 * 30) ** 2 / ((0.8 * 30) ** 2 + 18**2)
        ratio = float(np.var(narrowed) / np.var(plain))
        self.assertAlmostEqual(ratio, 1 - rho_squared, delta=0.03)

    def test_where_nothing_was_known_it_is_the_plain_one(self) -> None:
        treated, held = Outcomes.of([1, 0, 1, 1]), Outcomes.of([0, 0, 1])
        one, other = adjusted(treated, held)
        self.assertEqual(one.values.tolist(), treated.values.tolist())
        self.assertEqual(other.values.tolist(), held.values.tolist())


class AnyTimeTest(unittest.TestCase):
    """rules.md section 7: a rate of 10 % read every 20 people from the 200th to the 5,000th gave a false
    alarm in 3.7 % of 4,000 worlds, the usual interval as often in 36.5 %; at the planned sample it is about
    1.55 times as wide.
    """

    def test_false_alarms_when_read_all_the_time(self) -> None:
        rng, rate, worlds = np.random.default_rng(SEED), 0.1, 4_000
        looks = np.arange(200, 5_001, 20)
        reach = np.array([any_time_reach(int(people), 5_000) for people in looks])
        alarms = usual = 0
        for _ in range(worlds):
            count = np.cumsum(rng.random(5_000) < rate)[looks - 1]
            share = count / looks
            off, spread = np.abs(share - rate), np.sqrt(share * (1 - share))
            alarms += bool(np.any(off > spread * reach))
            usual += bool(np.any(off > 1.96 * spread / np.sqrt(looks)))
        self.assertLess(alarms / worlds, 0.05)
        self.assertGreater(alarms / worlds, 0.02, "an interval that never errs is wider than it need be")
        self.assertAlmostEqual(usual / worlds, 0.365, delta=0.03)

    def test_its_width_at_the_planned_sample(self) -> None:
        self.assertAlmostEqual(any_time_reach(5_000, 5_000) / (1.96 / 5_000**0.5), 1.55, delta=0.02)

    def test_two_groups_read_every_week(self) -> None:
        """Worlds without effect show a difference in at most 5 %, with one cover it in at least 95 %."""
        rng, worlds = np.random.default_rng(SEED), 400
        wrong = 0
        for _ in range(worlds):
            is_held = rng.random(3_000) < 0.2
            bought = (rng.random(3_000) < 0.1 + 0.04 * ~is_held).astype(float)
            for people in range(200, 3_001, 100):
                treated, held = bought[:people][~is_held[:people]], bought[:people][is_held[:people]]
                found = any_time(Outcomes.of(treated), Outcomes.of(held), 2_000)
                if not found.low <= 0.04 <= found.high:
                    wrong += 1
                    break
        self.assertLess(wrong / worlds, 0.05)
