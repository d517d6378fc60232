"""When a campaign goes out again, against the worked examples of RFC 5545 (section 3.8.5.3, from memory)."""

import unittest
from datetime import UTC, date, datetime
from itertools import islice
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.campaigns.plan import CampaignPlan, Variant
from loyalbell.core.clock.recurrence import Repeat, rounds

NEW_YORK = "America/New_York"


def nine(year: int, month: int, day: int) -> datetime:
    return datetime(year, month, day, 9, tzinfo=ZoneInfo(NEW_YORK))


def local(repeat: Repeat, first: datetime, count: int = 30) -> list[datetime]:
    found = islice(rounds(first, (), repeat, NEW_YORK), count)
    return [one.astimezone(ZoneInfo(NEW_YORK)).replace(tzinfo=None) for one in found]


def days(year: int, *months: tuple[int, list[int]]) -> list[datetime]:
    return [datetime(year, month, day, 9) for month, some in months for day in some]


class RepeatTest(unittest.TestCase):
    def test_daily_for_ten_times(self) -> None:
        found = local(Repeat(unit="days", times=10), nine(1997, 9, 2))
        self.assertEqual(found, days(1997, (9, list(range(2, 12)))))

    def test_tuesday_and_thursday_for_five_weeks(self) -> None:
        found = local(Repeat(weekdays=(1, 3), times=10), nine(1997, 9, 2))
        self.assertEqual(found, days(1997, (9, [2, 4, 9, 11, 16, 18, 23, 25, 30]), (10, [2])))

    def test_every_other_week_until_a_day_over_the_end_of_summer_time(self) -> None:
        repeat = Repeat(every=2, weekdays=(0, 2, 4), until=date(1997, 12, 24))
        expected = days(
            1997,
            (9, [1, 3, 5, 15, 17, 19, 29]),
            (10, [1, 3, 13, 15, 17, 27, 29, 31]),
            (11, [10, 12, 14, 24, 26, 28]),
            (12, [8, 10, 12, 22, 24]),
        )
        self.assertEqual(local(repeat, nine(1997, 9, 1)), expected)

    def test_the_first_friday_for_ten_times(self) -> None:
        found = local(Repeat(unit="months", same_weekday=True, times=10), nine(1997, 9, 5))
        expected = days(1997, (9, [5]), (10, [3]), (11, [7]), (12, [5]))
        self.assertEqual(
            found, expected + days(1998, (1, [2]), (2, [6]), (3, [6]), (4, [3]), (5, [1]), (6, [5]))
        )

    def test_a_month_too_short_takes_its_last_day_and_a_fifth_weekday_is_the_last(self) -> None:
        ends = local(Repeat(unit="months"), nine(2027, 1, 31), 4)
        self.assertEqual([one.day for one in ends], [31, 28, 31, 30])
        fifth = local(Repeat(unit="months", same_weekday=True), nine(2026, 5, 29), 3)
        self.assertEqual([(one.month, one.day) for one in fifth], [(5, 29), (6, 26), (7, 31)])

    @given(
        st.builds(
            Repeat,
            every=st.integers(1, 9),
            unit=st.sampled_from(["days", "weeks", "months"]),
            weekdays=st.sets(st.integers(0, 6)).map(tuple),
            same_weekday=st.booleans(),
        ),
        st.datetimes(datetime(2026, 1, 1), datetime(2027, 12, 31), timezones=st.just(ZoneInfo(NEW_YORK))),
    )
    def test_rounds_ascend_and_keep_their_place_on_the_clock(self, repeat: Repeat, first: datetime) -> None:
        found = list(islice(rounds(first, (), repeat, NEW_YORK), 40))
        self.assertEqual(found, sorted(set(found)))
        zone, clock = ZoneInfo(NEW_YORK), first.time()
        for one in found:
            here = one.astimezone(zone)
            wished = datetime.combine(here.date(), clock, zone)
            skipped = wished.astimezone(UTC).astimezone(zone).time() != clock
            self.assertTrue(here.time() == clock or skipped, "the same time of the day, but where none is")


class PlanTest(unittest.TestCase):
    def test_words(self) -> None:
        first = date(2026, 5, 12)
        self.assertEqual(
            Repeat(every=2, weekdays=(3, 0)).words(first), "every 2 weeks on Monday and Thursday"
        )
        self.assertEqual(
            Repeat(unit="months", same_weekday=True, times=3).words(first),
            "every month on the second Tuesday, 3 times in all",
        )

    def test_shares_come_out_as_they_were_set(self) -> None:
        """A binomial share of 20 % of 20,000 lies within five standard deviations (57 each) of 4,000."""
        plan = CampaignPlan(variants=(Variant(message=2, share=20), Variant(message=3, share=30)))
        drawn = [plan.variant_of("campaign 1", person) for person in range(20_000)]
        for at, expected in ((0, 4_000), (1, 6_000), (None, 10_000)):
            self.assertAlmostEqual(drawn.count(at), expected, delta=5 * 71)

    def test_plans_that_do_not_fit_together(self) -> None:
        one = Variant(message=2, share=60)
        for wrong in (
            {"more": (nine(2026, 5, 1),), "repeat": Repeat()},
            {"variants": (one, Variant(message=3, share=40))},
            {"variants": (Variant(message=2),)},
            {"variants": (one,), "parted_by": "segment"},
        ):
            with self.subTest(wrong), self.assertRaises(ValueError):
                CampaignPlan.model_validate(wrong)
