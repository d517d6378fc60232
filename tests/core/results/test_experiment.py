"""Arms of a test, over worlds whose truth is known."""

import unittest

import numpy as np

from loyalbell.core.results.experiment import Standing, TestVerdict, standing
from loyalbell.core.results.lift import Outcomes

SEED = 11


def arms(rng: np.random.Generator, people: int, rates: tuple[float, ...]) -> list[Outcomes]:
    drawn = rng.integers(0, len(rates), people)
    return [Outcomes.of(rng.random(int((drawn == at).sum())) < rate) for at, rate in enumerate(rates)]


class StandingTest(unittest.TestCase):
    def told(self, people: int, rates: tuple[float, ...], worlds: int) -> list[Standing]:
        rng = np.random.default_rng(SEED)
        return [standing(arms(rng, people, rates), [1] * len(rates)) for _ in range(worlds)]

    def test_without_a_difference_there_is_a_winner_in_at_most_one_of_twenty(self) -> None:
        """rules.md section 7, for three arms read every 300 people."""
        rng, won, worlds = np.random.default_rng(SEED), 0, 150
        for _ in range(worlds):
            full = arms(rng, 4_500, (0.1, 0.1, 0.1))
            for share in np.linspace(0.1, 1, 15):
                some = [
                    Outcomes(one.values[: int(len(one) * share)], one.before[: int(len(one) * share)])
                    for one in full
                ]
                if standing(some, [1, 1, 1]).verdict is TestVerdict.WON:
                    won += 1
                    break
        self.assertLessEqual(won, 0.05 * worlds)

    def test_the_better_arm_wins(self) -> None:
        found = self.told(6_000, (0.08, 0.16, 0.08), 60)
        self.assertGreater(sum(one.verdict is TestVerdict.WON and one.leader == 1 for one in found), 54)

    def test_equal_arms_with_many_people_are_no_difference_worth_having(self) -> None:
        found = self.told(90_000, (0.05, 0.05), 20)
        self.assertGreater(sum(one.verdict is TestVerdict.NO_DIFFERENCE for one in found), 15)

    def test_a_split_that_is_not_as_drawn_has_no_winner(self) -> None:
        groups = [Outcomes.of(np.zeros(900)), Outcomes.of(np.ones(600))]
        found = standing(groups, [50, 50])
        self.assertTrue(found.is_split_wrong)
        self.assertIs(found.verdict, TestVerdict.TOO_EARLY)
        self.assertIs(standing(groups, [60, 40]).verdict, TestVerdict.WON)

    def test_a_few_people_say_nothing(self) -> None:
        found = standing([Outcomes.of(np.zeros(90)), Outcomes.of(np.ones(10))], [90, 10])
        self.assertEqual((found.verdict, found.ahead), (TestVerdict.TOO_EARLY, None))
        self.assertEqual((found.leader, found.people_to_go), (1, 100))
