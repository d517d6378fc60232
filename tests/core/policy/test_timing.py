"""The one rule for every attempt (rules.md, section 6), at its edges, with dates and not only clock times."""

import unittest
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from loyalbell.core.clock.send_windows import QuietHours, SendWindow
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy import timing
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.policy.timing import Attempt, Decision

ZONE = zone_of("America/New_York")
AT_ONCE = SendWindow(kind="at once")
NIGHT = QuietHours("21:00", "08:00")
TOO_LATE = Decision("withhold", 0, "too late")
SEND = Decision("send")


def when(*asked: Any) -> Decision:
    """The decision, without the instant at which it was planned."""
    return timing.when(*asked)._replace(planned=0)


def at(text: str) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo("America/New_York")).timestamp())


def attempt(
    due: str,
    patience: int = 3,
    window: SendWindow = AT_ONCE,
    marketing: bool = True,
    sent: tuple[int, ...] = (),
) -> Attempt:
    return Attempt(at(due), window, patience, marketing, ZONE, sent)


class TimingTest(unittest.TestCase):
    def test_a_quarter_of_an_hour_is_not_late(self) -> None:
        one = attempt("2026-05-12T10:00", patience=0)
        self.assertEqual(when(one, NIGHT, (), at("2026-05-12T10:15")), SEND)
        self.assertEqual(when(one, NIGHT, (), at("2026-05-12T10:15") + 1), TOO_LATE)

    def test_patience_ends_to_the_second(self) -> None:
        one = attempt("2026-05-12T10:00")
        self.assertEqual(when(one, NIGHT, (), at("2026-05-15T10:00")), SEND)
        self.assertEqual(when(one, NIGHT, (), at("2026-05-15T10:00") + 1), TOO_LATE)

    def test_the_night_ends_at_eight_in_the_persons_zone(self) -> None:
        one = attempt("2026-05-12T20:55")
        self.assertEqual(when(one, NIGHT, (), at("2026-05-12T20:59")), SEND)
        morning = Decision("postpone", at("2026-05-13T08:00"), "window")
        self.assertEqual(when(one, NIGHT, (), at("2026-05-12T21:00")), morning)
        self.assertEqual(when(one, NIGHT, (), at("2026-05-13T07:59")), morning)
        self.assertEqual(when(one, NIGHT, (), at("2026-05-13T08:00")), SEND)

    def test_a_closed_day_is_waited_for_with_its_night(self) -> None:
        sunday = QuietHours("21:00", "08:00", frozenset({datetime(2026, 5, 17).toordinal() - 719_163}))
        found = when(attempt("2026-05-16T20:59"), sunday, (), at("2026-05-16T21:05"))
        self.assertEqual(found, Decision("postpone", at("2026-05-18T08:00"), "window"))

    def test_service_leaves_at_night_and_counts_no_limit(self) -> None:
        now = at("2026-05-12T23:00")
        one = attempt("2026-05-12T23:00", marketing=False, sent=(now - 60, now - 30))
        self.assertEqual(when(one, NIGHT, (FrequencyCap(count=1, days=7),), now), SEND)

    def test_a_limit_postpones_within_patience_and_then_withholds(self) -> None:
        now, cap = at("2026-05-12T10:00"), (FrequencyCap(count=1, days=7),)
        before = attempt("2026-05-12T10:00", sent=(at("2026-05-07T09:00"),))
        postponed = Decision("postpone", at("2026-05-14T09:00"), "contact limit")
        self.assertEqual(when(before, NIGHT, cap, now), postponed)
        lately = attempt("2026-05-12T10:00", sent=(at("2026-05-10T09:00"),))
        self.assertEqual(when(lately, NIGHT, cap, now), Decision("withhold", 0, "contact limit"))

    def test_a_window_that_is_always_quiet_never_opens(self) -> None:
        exact = SendWindow(kind="exact", begins="22:00")
        found = when(attempt("2026-05-12T10:00", window=exact), NIGHT, (), at("2026-05-12T10:00"))
        self.assertEqual(found, Decision("withhold", 0, "never opens"))

    def test_an_exact_time_holds_for_an_hour_since_no_tick_comes_at_its_second(self) -> None:
        one = attempt("2026-05-12T07:55", window=SendWindow(kind="exact", begins="07:55"))
        none = QuietHours()
        for now in (at("2026-05-12T07:55"), at("2026-05-12T07:55") + 1, at("2026-05-12T08:55") - 1):
            self.assertEqual(when(one, none, (), now), SEND)
        tomorrow = Decision("postpone", at("2026-05-13T07:55"), "window")
        for late in ("2026-05-12T08:55", "2026-05-12T23:40"):
            self.assertEqual(when(one, none, (), at(late)), tomorrow)
        evening = attempt("2026-05-12T20:55", window=SendWindow(kind="exact", begins="20:55"))
        found = when(evening, NIGHT, (), at("2026-05-12T21:05"))
        self.assertEqual(found, Decision("postpone", at("2026-05-13T20:55"), "window"))
