"""What a comparison says, over worlds whose truth is known."""

import unittest
from collections import Counter

import numpy as np
from statsmodels.stats.power import NormalIndPower
from statsmodels.stats.proportion import proportion_effectsize

from loyalbell.core.results.lift import Outcomes
from loyalbell.core.results.sample_size import (
    people_needed,
    smallest_difference,
    split_chance,
    split_is_wrong,
)
from loyalbell.core.results.verdict import Judged, Verdict, judge

SEED = 7


def world(
    rng: np.random.Generator, people: int, base: float, effect: float, held: float
) -> tuple[Outcomes, Outcomes]:
    """What each spent before has to do with whether they come back."""
    before = rng.gamma(1, 40, people)
    is_held = rng.random(people) < held
    share = np.clip(base + 0.0015 * (before - 40), 0, 1) + effect * ~is_held
    came = (rng.random(people) < share).astype(float)
    return Outcomes.of(came[~is_held], before[~is_held]), Outcomes.of(came[is_held], before[is_held])


class VerdictTest(unittest.TestCase):
    def verdicts(self, worlds: int, people: int, effect: float, held: float = 0.3) -> Counter[Verdict]:
        rng = np.random.default_rng(SEED)
        return Counter(judge(*world(rng, people, 0.15, effect, held)).verdict for _ in range(worlds))

    def test_worlds_without_effect_show_a_winner_in_at_most_one_of_twenty(self) -> None:
        found = self.verdicts(2_000, 1_500, 0.0)
        self.assertLessEqual(found[Verdict.ADDED] + found[Verdict.COST], 0.05 * 2_000)

    def test_a_large_effect_is_found_and_has_the_right_sign(self) -> None:
        found = self.verdicts(200, 3_000, 0.08)
        self.assertGreater(found[Verdict.ADDED], 180)
        self.assertEqual(found[Verdict.COST], 0)
        self.assertGreater(self.verdicts(200, 3_000, -0.08)[Verdict.COST], 180)

    def test_no_difference_worth_having_needs_many_people(self) -> None:
        self.assertEqual(self.verdicts(30, 2_000, 0.0)[Verdict.NO_DIFFERENCE], 0)
        self.assertGreater(self.verdicts(30, 60_000, 0.0, 0.5)[Verdict.NO_DIFFERENCE], 20)

    def test_read_every_day_no_more_winners(self) -> None:
        """rules.md section 7: at most 5 % false winners, also when read daily."""
        rng, alarms, worlds = np.random.default_rng(SEED), 0, 200
        for _ in range(worlds):
            treated, held = world(rng, 3_000, 0.12, 0.0, 0.25)
            for share in np.linspace(0.1, 1, 40):
                some = int(len(treated) * share), int(len(held) * share)
                parts = [
                    Outcomes(g.values[:n], g.before[:n]) for g, n in zip((treated, held), some, strict=True)
                ]
                if judge(*parts).verdict in (Verdict.ADDED, Verdict.COST):
                    alarms += 1
                    break
        self.assertLessEqual(alarms, 0.05 * worlds)

    def test_it_says_how_many_people_it_still_takes(self) -> None:
        """After as many people as it said, it is mostly decided."""
        rng, decided, worlds = np.random.default_rng(SEED), 0, 60
        for _ in range(worlds):
            early = judge(*world(rng, 800, 0.15, 0.06, 0.3))
            if early.verdict is not Verdict.TOO_EARLY:
                decided += 1
                continue
            assert early.people_to_go is not None
            later = judge(*world(rng, min(800 + early.people_to_go, 40_000), 0.15, 0.06, 0.3))
            decided += later.verdict is not Verdict.TOO_EARLY
        self.assertGreater(decided / worlds, 0.6)

    def test_the_first_people_say_nothing(self) -> None:
        few = judge(Outcomes.of(np.ones(100)), Outcomes.of(np.zeros(10)))
        self.assertEqual((few.verdict, few.interval), (Verdict.TOO_EARLY, None))
        self.assertEqual(few.people_to_go, 110)
        self.assertEqual(judge(Outcomes.of(np.ones(300)), Outcomes.of([])), Judged(Verdict.NOBODY_HELD))


class SampleSizeTest(unittest.TestCase):
    def test_people_as_statsmodels(self) -> None:
        """``statsmodels.stats.power.NormalIndPower`` with ``proportion_effectsize`` (Cohen's h)."""
        for base, worth, held in ((0.10, 0.02, 0.5), (0.30, 0.05, 0.2), (0.05, 0.01, 0.1)):
            with self.subTest(base=base):
                ratio = held / (1 - held)
                size = proportion_effectsize(base + worth, base)
                one = NormalIndPower().solve_power(size, alpha=0.05, power=0.8, ratio=ratio)
                self.assertAlmostEqual(people_needed(base, worth, held), one * (1 + ratio), delta=1)

    def test_the_smallest_difference_that_so_many_people_show(self) -> None:
        """Turned round: so many people are what that difference needs, by ``NormalIndPower``."""
        for base, people, held in ((0.2, 1_000, 0.2), (0.05, 30_000, 0.5), (0.6, 400, 0.3)):
            least = smallest_difference(base, people, held)
            assert least is not None
            ratio = held / (1 - held)
            size = proportion_effectsize(base + least, base)
            one = NormalIndPower().solve_power(size, alpha=0.05, power=0.8, ratio=ratio)
            self.assertAlmostEqual(one * (1 + ratio) / people, 1, delta=0.02)
        self.assertIsNone(smallest_difference(0.5, 10))
        self.assertIsNone(smallest_difference(1.0, 10_000))

    def test_shares_that_cannot_be(self) -> None:
        for wrong in ((0.5, 0.0, 0.5), (0.9, 0.2, 0.5), (0.1, 0.1, 0.0), (-0.1, 0.2, 0.5)):
            with self.subTest(wrong=wrong), self.assertRaises(ValueError):
                people_needed(*wrong)

    def test_a_split_that_is_not_what_was_drawn(self) -> None:
        """Chi-square of one degree: 200^2 / 5000 * 2 / 4 = 4 for 5,100 to 4,900, so p = 0.0455 (tables)."""
        self.assertAlmostEqual(split_chance((5_100, 4_900), (50, 50)), 0.0455, places=4)
        self.assertFalse(split_is_wrong((5_100, 4_900), (50, 50)))
        self.assertTrue(split_is_wrong((5_300, 4_700), (50, 50)))
        self.assertFalse(split_is_wrong((897, 103), (90, 10)))
        self.assertEqual(split_chance((0, 0), (50, 50)), 1.0)
