import unittest
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.clock.local_time import at_local, days_before, start_of_day, whole_days_between

ZONES = ("America/New_York", "Europe/London", "America/Havana", "Australia/Lord_Howe", "Asia/Kathmandu")


class Transitions(unittest.TestCase):
    """Source: IANA time zone database, as zoneinfo and the package tzdata carry it."""

    def test_a_skipped_time_moves_to_the_first_instant_after_the_gap(self) -> None:
        cases = (
            ("America/New_York", date(2025, 3, 9), time(2, 30), datetime(2025, 3, 9, 7, 0, tzinfo=UTC)),
            ("America/New_York", date(2026, 3, 8), time(2, 0), datetime(2026, 3, 8, 7, 0, tzinfo=UTC)),
            ("Europe/London", date(2025, 3, 30), time(1, 15), datetime(2025, 3, 30, 1, 0, tzinfo=UTC)),
            ("Europe/London", date(2026, 3, 29), time(1, 59), datetime(2026, 3, 29, 1, 0, tzinfo=UTC)),
        )
        for zone, day, clock_time, instant in cases:
            with self.subTest(zone=zone, day=day):
                self.assertEqual(at_local(day, clock_time, zone), instant)

    def test_a_repeated_time_means_the_first(self) -> None:
        self.assertEqual(
            at_local(date(2026, 11, 1), time(1, 30), "America/New_York"),
            datetime(2026, 11, 1, 5, 30, tzinfo=UTC),
        )
        self.assertEqual(
            at_local(date(2025, 10, 26), time(1, 30), "Europe/London"),
            datetime(2025, 10, 26, 0, 30, tzinfo=UTC),
        )

    @given(st.dates(date(1990, 1, 1), date(2037, 1, 1)), st.sampled_from(ZONES))
    def test_a_day_starts_at_its_very_first_second(self, day: date, zone: str) -> None:
        start = start_of_day(day, zone)
        self.assertEqual(start.astimezone(ZoneInfo(zone)).date(), day)
        self.assertLess((start - timedelta(seconds=1)).astimezone(ZoneInfo(zone)).date(), day)

    def test_the_365th_day_before_is_a_date_not_hours(self) -> None:
        now = datetime(2026, 11, 5, 4, 30, tzinfo=UTC)  # 4 November, 23:30 in New York
        self.assertEqual(days_before(now, 365, "America/New_York"), date(2025, 11, 4))

    def test_whole_days_between_counts_midnights(self) -> None:
        evening, morning = datetime(2026, 5, 12, 3, 59, tzinfo=UTC), datetime(2026, 5, 12, 4, 1, tzinfo=UTC)
        self.assertEqual(whole_days_between(evening, morning, "America/New_York"), 1)
