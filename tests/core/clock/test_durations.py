"""Waits, windows, quiet hours and pacing against the IANA zones, dateutil and plain minute-by-minute
looking.
"""

import unittest
from datetime import date, datetime, timedelta
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

from dateutil.relativedelta import relativedelta
from dateutil.rrule import DAILY, MO, TU, WE, YEARLY, rrule
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.clock.durations import Span, after, months_later
from loyalbell.core.clock.local_time import at_local
from loyalbell.core.clock.pacing import NeverOpens, Pace, instants, paced
from loyalbell.core.clock.send_windows import NO_QUIET, QuietHours, SendWindow, opens, seconds_of
from loyalbell.core.clock.yearly import kept_on
from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.sequences.plan import MessageStep, WaitStep, read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.steps.wait import has_its_own_time, wait_until

ZONES = ("America/New_York", "Europe/London", "Australia/Lord_Howe", "Asia/Kolkata", "UTC")
DECADE = st.integers(1_577_836_800, 1_893_456_000)


def at(text: str, zone: str = "America/New_York") -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(zone)).timestamp())


class ZonesTest(unittest.TestCase):
    @given(st.sampled_from(ZONES), DECADE)
    def test_a_local_day_and_second_as_zoneinfo_has_them(self, name: str, instant: int) -> None:
        local = datetime.fromtimestamp(instant, ZoneInfo(name))
        day, second = zone_of(name).local(instant)
        self.assertEqual(day_of(day), local.date())
        self.assertEqual(second, local.hour * 3600 + local.minute * 60 + local.second)

    @given(st.sampled_from(ZONES), st.integers(18_300, 21_900), st.integers(0, 86_399))
    def test_the_instant_of_a_wall_clock_time(self, name: str, day: int, second: int) -> None:
        clock = (datetime.min + timedelta(seconds=second)).time()
        self.assertEqual(
            zone_of(name).instant(day, second), int(at_local(day_of(day), clock, name).timestamp())
        )

    def test_the_changes_of_two_years_in_two_zones(self) -> None:
        """IANA: New York changed on 8 March 2026 and 14 March 2027, London on 29 March 2026 and 28 March
        2027.
        """
        for name, day in (
            ("America/New_York", "2026-03-08"),
            ("America/New_York", "2027-03-14"),
            ("Europe/London", "2026-03-29"),
            ("Europe/London", "2027-03-28"),
        ):
            zone, before = zone_of(name), date.fromisoformat(day) - timedelta(days=1)
            hour = 2 if name.startswith("America") else 1
            start = at(f"{before}T{hour:02}:30", name)
            with self.subTest(name=name, day=day):
                self.assertEqual(after(start, Span(amount=24, unit="hours"), zone) - start, 86_400)
                skipped = datetime.fromtimestamp(
                    after(start, Span(amount=1, unit="days"), zone), ZoneInfo(name)
                )
                self.assertEqual(
                    (skipped.hour, skipped.minute), (hour + 1, 0), "the first instant after the gap"
                )
                kept = datetime.fromtimestamp(
                    after(start, Span(amount=1, unit="weeks"), zone), ZoneInfo(name)
                )
                self.assertEqual((kept.hour, kept.minute), (hour, 30))


class WaitsTest(unittest.TestCase):
    @given(st.dates(date(2000, 1, 1), date(2060, 1, 1)), st.integers(0, 60))
    def test_months_are_clipped_as_dateutil_clips_them(self, day: date, months: int) -> None:
        self.assertEqual(months_later(day, months), day + relativedelta(months=months))

    def test_the_dated_series_and_the_sixth_monthly_message(self) -> None:
        """Common practice, no source: one day before the first of six and 30 days between end on day 151."""
        zone, start = zone_of("America/New_York"), at("2026-05-12T09:40")
        at_ = after(start, Span(amount=1), zone)
        for _ in range(5):
            at_ = after(at_, Span(amount=30), zone)
        self.assertEqual(zone.day(at_) - zone.day(start), 151)
        expected = ["2026-05-14T07:55", "2026-05-17T11:05", "2026-05-31T09:15"]
        last = start
        for days, clock, said in zip((2, 3, 14), ("07:55", "11:05", "09:15"), expected, strict=True):
            last = (
                opens(
                    zone.instant(zone.day(last) + days, 0),
                    SendWindow(kind="exact", begins=clock),
                    QuietHours(),
                    zone,
                )
                or 0
            )
            self.assertEqual(last, at(said))

    def test_yearly_dates_fall_as_rfc_5545_rules_give_them(self) -> None:
        """``dateutil.rrule`` for 12 May.

        29 February by the setting, which RFC 5545 leaves out in common years.
        """
        given_ = [one.date() for one in rrule(YEARLY, dtstart=datetime(2024, 5, 12), count=8)]
        mine = [
            day
            for day in (date(2024, 1, 1) + timedelta(days=at_) for at_ in range(8 * 366))
            if (5, 12) in kept_on(day)
        ]
        self.assertEqual(mine[:8], given_)
        self.assertIn((2, 29), kept_on(date(2025, 2, 28)))
        self.assertNotIn((2, 29), kept_on(date(2024, 2, 28)))
        self.assertIn((2, 29), kept_on(date(2025, 3, 1), "1 March"))


class WindowsTest(unittest.TestCase):
    @given(
        st.sampled_from(ZONES),
        DECADE,
        st.sets(st.integers(0, 6), min_size=1),
        st.integers(0, 22),
        st.integers(1, 24),
        st.sampled_from([("", ""), ("21:00", "08:00"), ("12:00", "13:30")]),
    )
    def test_the_first_open_moment_is_the_first(
        self, name: str, instant: int, days: set[int], low: int, long: int, hush: tuple[str, str]
    ) -> None:
        release = SendWindow(
            kind="window",
            weekdays=tuple(sorted(days)),
            begins=f"{low:02}:00",
            ends=f"{min(low + long, 24):02}:00",
        )
        quiet, zone = QuietHours(*hush), zone_of(name)
        found = opens(instant, release, quiet, zone)
        if found is None:
            free = range(0 if not hush[0] else seconds_of(hush[1]), 86_400)
            self.assertFalse(
                any(
                    low * 3600 <= second < min(low + long, 24) * 3600
                    for second in free
                    if plainly_free(second, hush)
                )
            )
            return
        self.assertTrue(plainly_open(found, release, quiet, name))
        for earlier in range(instant, min(found, instant + 40 * 3600), 1_800):
            self.assertFalse(plainly_open(earlier, release, quiet, name), "it was open before")

    def test_weekday_rules_as_rrule_has_them(self) -> None:
        """RFC 5545 through dateutil: Monday to Wednesday at 10:00."""
        start, zone = at("2026-05-12T09:40"), zone_of("America/New_York")
        release, found = SendWindow(kind="exact", weekdays=(0, 1, 2), begins="10:00"), [start]
        for _ in range(6):
            found.append(opens(found[-1] + 1, release, QuietHours(), zone) or 0)
        rule = rrule(DAILY, dtstart=datetime(2026, 5, 12, 10), byweekday=(MO, TU, WE), count=6)
        self.assertEqual(found[1:], [at(one.isoformat()) for one in rule])

    def test_a_window_within_the_quiet_hours_never_opens_and_closed_days_are_passed_over(self) -> None:
        zone, start = zone_of("Europe/London"), at("2026-05-12T09:40", "Europe/London")
        night = SendWindow(kind="window", begins="22:00", ends="23:00")
        self.assertIsNone(opens(start, night, QuietHours("21:00", "08:00"), zone))
        closed = frozenset({zone.day(start), zone.day(start) + 1})
        self.assertEqual(
            opens(start, SendWindow(), QuietHours(closed=closed), zone),
            at("2026-05-14T00:00", "Europe/London"),
        )


def plainly_free(second: int, hush: tuple[str, str]) -> bool:
    if not hush[0]:
        return True
    low, high = seconds_of(hush[0]), seconds_of(hush[1])
    return not (low <= second < high) if low < high else high <= second < low


def plainly_open(instant: int, release: SendWindow, quiet: QuietHours, name: str) -> bool:
    local = datetime.fromtimestamp(instant, ZoneInfo(name))
    second = local.hour * 3600 + local.minute * 60 + local.second
    within = seconds_of(release.begins) <= second < seconds_of(release.ends)
    return within and local.weekday() in release.weekdays and plainly_free(second, (quiet.begins, quiet.ends))


class PacingTest(unittest.TestCase):
    ZONE = zone_of("America/New_York")

    def test_five_thousand_people_in_a_working_week(self) -> None:
        """Common practice, no source: 1,000 a day.

        Over five hours 200 an hour, the same as 50 every 15 minutes.
        """
        hours = SendWindow(kind="window", weekdays=(0, 1, 2, 3, 4), begins="09:00", ends="14:00")
        monday = at("2026-05-11T09:00")
        for batch, every in ((200, 3_600), (100, 1_800), (50, 900)):
            found = paced(5_000, monday, Pace(batch, every, hours), self.ZONE)
            self.assertEqual(found.batches, 5_000 // batch)
            self.assertEqual(found.finished_by, at("2026-05-15T14:00"))
        self.assertEqual(24 * 60, 1_440)

    def test_batches_of_fifty_until_thursday(self) -> None:
        """28 batches on Tuesday from 13:00, 48 on Wednesday, 24 on Thursday: counted by hand."""
        hours = SendWindow(kind="window", weekdays=(0, 1, 2, 3, 4), begins="08:00", ends="20:00")
        found = paced(5_000, at("2026-05-12T13:00"), Pace(50, 900, hours), self.ZONE)
        self.assertEqual((found.batches, found.last_batch_at), (100, at("2026-05-14T13:45")))

    @given(st.integers(1, 400), st.integers(1, 50), st.integers(1, 30), DECADE)
    def test_every_batch_lies_in_the_hours_and_never_closer_than_asked(
        self, people: int, batch: int, minutes: int, start: int
    ) -> None:
        pace = Pace(
            batch, minutes * 60, SendWindow(kind="window", weekdays=(1, 3), begins="10:00", ends="12:00")
        )
        found = paced(people, start, pace, self.ZONE)
        times = [
            time for time, _ in zip(instants(start, pace, self.ZONE), range(found.batches), strict=False)
        ]
        self.assertEqual(times[-1], found.last_batch_at)
        for earlier, later in pairwise(times):
            self.assertGreaterEqual(later - earlier, pace.every)
        for time in times:
            self.assertTrue(plainly_open(time, pace.hours, QuietHours(), "America/New_York"))

    def test_hours_that_never_come_are_said(self) -> None:
        with self.assertRaises(NeverOpens):
            paced(10, 0, Pace(1, 60, SendWindow(kind="exact", begins="24:00")), self.ZONE)


class DaysThenATimeTest(unittest.TestCase):
    """rules.md section 1, its check dates (common practice, no source): dates, not only clock times."""

    def test_a_dated_series(self) -> None:
        zone = zone_of("America/New_York")

        def message(step: str, begins: str) -> dict[str, Any]:
            release = {"kind": "exact", "begins": begins}
            return {"id": step, "do": "message", "message": 1, "release": release}

        def days(step: str, count: int) -> dict[str, Any]:
            return {"id": step, "do": "wait", "span": {"amount": count, "unit": "days"}}

        steps = [days("w1", 2), message("a", "07:55"), days("w2", 3), message("b", "11:05")]
        plan = read_plan({"steps": [*steps, days("w3", 14), message("c", "09:15")]})
        now = at("2026-05-13T09:00")
        arrived, left = now, []
        tree = tree_of(plan)
        for step in plan.steps:
            if isinstance(step, WaitStep):
                then = tree.nodes[tree.nodes[step.id].after or ""].step
                arrived = wait_until(step, arrived, 0, zone, has_its_own_time(then))
            else:
                assert isinstance(step, MessageStep)
                arrived = opens(arrived, step.release, NO_QUIET, zone) or 0
                left.append(arrived)
        expected = ["2026-05-15T07:55", "2026-05-18T11:05", "2026-06-01T09:15"]
        self.assertEqual(left, [at(text) for text in expected])

    def test_without_a_time_of_its_own_the_clock_is_kept(self) -> None:
        zone = zone_of("America/New_York")
        wait = WaitStep(id="w", span=Span(amount=2, unit="days"))
        self.assertEqual(wait_until(wait, 1_778_677_200, 0, zone), 1_778_677_200 + 2 * 86_400)
