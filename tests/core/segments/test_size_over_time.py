"""A segment day by day, and why somebody is in it, against asking each time anew."""

import unittest
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from hypothesis import given, settings

from loyalbell.core.segments import model as m
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation import RuleEvaluation, evaluate
from loyalbell.core.segments.explanation import explain
from loyalbell.core.segments.model import Group, Rule, RuleProblem
from loyalbell.core.segments.size_over_time import daily_instants, sizes
from tests.core.segments.test_evaluation import PEOPLE, consents, groups, orders
from tests.support import NOW, ZONE, snapshot_of

SECONDS, DAY = int(NOW.timestamp()), 86_400


class DayByDay(unittest.TestCase):
    @settings(max_examples=60)
    @given(orders, consents, groups)
    def test_sizes_are_those_of_asking_anew(self, order_rows, consent_rows, root) -> None:
        rule = Rule(root=root if isinstance(root, Group) else Group(lines=[root]))
        book = snapshot_of(PEOPLE, order_rows, consent_rows, joined=[SECONDS - 90 * DAY] * PEOPLE)
        instants = daily_instants(NOW, ZONE, 150)
        found = sizes(rule, book, instants)
        for at in (0, 1, 40, 75, 101, 148, 149):
            self.assertEqual(found[at], int(evaluate(rule, book, instants[at]).sum()), at)

    def test_the_days_are_days_of_the_shop(self) -> None:
        found = daily_instants(NOW, ZONE, 70)
        self.assertEqual(
            {one.astimezone(ZoneInfo(ZONE)).time() for one in found}, {NOW.astimezone(ZoneInfo(ZONE)).time()}
        )
        self.assertEqual((len(found), found[-1]), (70, NOW))  # the clocks changed on 8 March 2026 in between
        self.assertEqual(sizes(Rule(), snapshot_of(2, []), []), [])

    @settings(max_examples=60)
    @given(orders, consents, groups)
    def test_reasons_add_up_to_the_answer(self, order_rows, consent_rows, root) -> None:
        root = root if isinstance(root, Group) else Group(lines=[root])
        book = snapshot_of(PEOPLE, order_rows, consent_rows)
        met = evaluate(Rule(root=root), book, NOW)
        for number in range(PEOPLE):
            judged = [one.met for one in explain(root, RuleEvaluation(book, NOW), number, Saying())]
            holds = (
                {"all": all(judged), "any": any(judged), "none": not any(judged)}[root.match]
                if judged
                else True
            )
            self.assertEqual(holds, bool(met[number]))


class LeaningOnOthers(unittest.TestCase):
    def test_another_segment_and_cycles(self) -> None:
        book = snapshot_of(2, [(0, SECONDS - DAY, 1, 100, None, None, 0)])
        bought = Rule(root=Group(lines=[m.OrdersCondition()]))
        leaning = Rule(root=Group(lines=[m.SegmentCondition(segment=1)]))
        against = Rule(root=Group(lines=[m.SegmentCondition(segment=2, within=False)]))
        saved = {1: bought, 2: leaning, 3: Rule(root=Group(lines=[m.SegmentCondition(segment=3)]))}
        self.assertEqual(evaluate(leaning, book, NOW, saved).tolist(), [True, False])
        self.assertEqual(evaluate(against, book, NOW, saved).tolist(), [False, True])
        for broken in (3, 9):
            with self.assertRaises(RuleProblem):
                evaluate(Rule(root=Group(lines=[m.SegmentCondition(segment=broken)])), book, NOW, saved)

    def test_who_is_asked_by_the_clock_of_another_day(self) -> None:
        book = snapshot_of(1, [(0, SECONDS, 1, 100, None, None, 0)], joined=[SECONDS + DAY])
        self.assertTrue(evaluate(Rule(), book, NOW)[0])  # on file from the first thing they did
        self.assertFalse(evaluate(Rule(), book, datetime(2026, 5, 1, tzinfo=UTC))[0])
