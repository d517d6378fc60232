"""How long a sequence's comparisons take, from its rehearsal. Sample sizes: statsmodels' NormalIndPower, an
outside reference; paces by hand.
"""

import unittest
from dataclasses import replace

from statsmodels.stats.power import NormalIndPower
from statsmodels.stats.proportion import proportion_effectsize

from loyalbell.core.sequences.plan import Plan, read_plan
from loyalbell.core.sequences.rehearsal_figures import Baseline, Figures
from loyalbell.services.results.planner import plans_of_tests

BASE, WORTH, DAYS = 0.25, 0.05, 70
START = {"on": "event", "happening": {"what": "order"}}


def plan(held_back: int, *shares: int) -> Plan:
    arms = [{"name": f"arm {at}", "share": share, "steps": []} for at, share in enumerate(shares)]
    split = [{"do": "lot", "id": "s", "arms": arms}] if arms else []
    return read_plan({"start": START, "held_back": held_back, "steps": split})


def figures(people: int) -> Figures:
    empty = Figures([], 0, 0, 0, {}, 0, (0,) * 7, None, [], [], [], 0, 0, Baseline(0, 0), 0, 0)
    return replace(empty, people=people, baseline=Baseline(250, 1_000))


def reference(ratio: float) -> float:
    """People in both groups, the second ``ratio`` times as large."""
    effect = proportion_effectsize(BASE + WORTH, BASE)
    first = NormalIndPower().solve_power(effect, alpha=0.05, power=0.8, ratio=ratio)
    return float(first * (1 + ratio))


class PlannerTest(unittest.TestCase):
    def test_held_back_group(self) -> None:
        (found,) = plans_of_tests(plan(20), figures(1_000), DAYS, WORTH)
        self.assertAlmostEqual(found.people, reference(4), delta=0.01 * found.people)
        self.assertEqual(found.weeks, -(-found.people // 100), "1,000 in ten weeks are 100 a week")

    def test_two_arms_of_half_each(self) -> None:
        (found,) = plans_of_tests(plan(0, 50, 50), figures(1_000), DAYS, WORTH)
        self.assertAlmostEqual(found.people, reference(1), delta=0.01 * found.people)

    def test_three_arms_take_longer_than_two(self) -> None:
        two, three = (
            plans_of_tests(plan(0, *shares), figures(1_000), DAYS, WORTH)[0]
            for shares in ((50, 50), (34, 33, 33))
        )
        self.assertAlmostEqual(three.people, two.people / 0.66, delta=0.02 * three.people)

    def test_held_back_people_are_missing_from_the_arms(self) -> None:
        _, arms = plans_of_tests(plan(20, 50, 50), figures(1_000), DAYS, WORTH)
        (alone,) = plans_of_tests(plan(0, 50, 50), figures(1_000), DAYS, WORTH)
        self.assertAlmostEqual(arms.people, alone.people / 0.8, delta=2)

    def test_nobody_came_in(self) -> None:
        self.assertEqual(plans_of_tests(plan(20), figures(0), DAYS, WORTH), [])
