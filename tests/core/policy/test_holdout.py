"""The few who get no marketing for a quarter."""

import unittest
from datetime import date, timedelta

from loyalbell.core.policy.holdout import Holdout, first_day, last_day, quarter_of
from loyalbell.core.policy.send_policy import SendFacts, first_refusal

FROM = date(2026, 2, 10)


class QuarterTest(unittest.TestCase):
    def test_the_quarters_of_the_calendar(self) -> None:
        for day, quarter in (
            (date(2025, 12, 31), "2025-4"),
            (date(2026, 1, 1), "2026-1"),
            (date(2026, 3, 31), "2026-1"),
            (date(2026, 4, 1), "2026-2"),
            (date(2024, 2, 29), "2024-1"),
        ):
            self.assertEqual(quarter_of(day), quarter)
            self.assertTrue(first_day(quarter) <= day <= last_day(quarter))
        for number, ends in ((1, (3, 31)), (2, (6, 30)), (3, (9, 30)), (4, (12, 31))):
            self.assertEqual(last_day(f"2026-{number}"), date(2026, *ends))


class HoldoutTest(unittest.TestCase):
    def test_many_are_drawn_as_each_one_is(self) -> None:
        holdout = Holdout(7, FROM)
        for quarter in ("2026-1", "2026-2", "2025-4"):
            among = holdout.draws_among(range(3_000), quarter)
            self.assertEqual(among, [holdout.draws(person, quarter) for person in range(3_000)])

    def group(self, holdout: Holdout, day: date) -> set[int]:
        return {person for person in range(4_000) if holdout.holds(person, day)}

    def test_nobody_unless_it_is_switched_on(self) -> None:
        self.assertEqual(self.group(Holdout(), FROM), set())
        self.assertEqual(self.group(Holdout().changed(5, FROM), FROM - timedelta(days=1)), set())

    def test_a_share_that_stays_for_the_quarter_and_is_drawn_anew_in_the_next(self) -> None:
        holdout = Holdout().changed(5, FROM)
        first = self.group(holdout, FROM)
        # 4 standard deviations of a binomial share
        self.assertAlmostEqual(len(first) / 4_000, 0.05, delta=4 * (0.05 * 0.95 / 4_000) ** 0.5)
        self.assertEqual(self.group(holdout, date(2026, 3, 31)), first)
        later = self.group(holdout, date(2026, 4, 1))
        self.assertNotEqual(later, first)
        self.assertLess(len(later & first), len(first) / 2)

    def test_another_share_begins_with_the_next_quarter(self) -> None:
        holdout = Holdout().changed(5, FROM)
        changed = holdout.changed(10, date(2026, 3, 1))
        self.assertEqual(self.group(changed, date(2026, 3, 2)), self.group(holdout, date(2026, 3, 2)))
        self.assertGreater(len(self.group(changed, date(2026, 4, 2))), 300)

    def test_off_is_off_at_once_and_on_again_begins_anew(self) -> None:
        off = Holdout().changed(5, date(2025, 8, 1)).changed(0, FROM)
        self.assertEqual(self.group(off, FROM), set())
        self.assertEqual(self.group(off, date(2026, 9, 1)), set())
        on = off.changed(5, date(2026, 5, 3))
        self.assertGreater(len(self.group(on, date(2026, 5, 3))), 100)
        self.assertEqual(
            on.quarters(date(2026, 5, 20)),
            [
                (date(2025, 7, 1), date(2025, 9, 30)),
                (date(2025, 10, 1), date(2025, 12, 31)),
                (date(2026, 5, 3), date(2026, 6, 30)),
            ],
        )

    def test_the_quarters_to_compare_begin_when_it_was_switched_on(self) -> None:
        holdout = Holdout().changed(5, FROM)
        self.assertEqual(
            holdout.quarters(date(2026, 5, 1)),
            [(FROM, date(2026, 3, 31)), (date(2026, 4, 1), date(2026, 6, 30))],
        )
        self.assertEqual(Holdout().quarters(FROM), [])

    def test_service_messages_go_to_them(self) -> None:
        facts = SendFacts(False, False, False, "agreed", "a@example.com", held_out=True)
        self.assertEqual(first_refusal(facts), "held out")
        self.assertIsNone(first_refusal(facts, marketing=False))
        refused = facts._replace(consent="refused")
        self.assertEqual(first_refusal(refused), "refused")
