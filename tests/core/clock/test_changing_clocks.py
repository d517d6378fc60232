"""When a message may leave on days on which the clocks change: what is open is open, later is never sooner.

The days are those of the tz database (IANA): in 2026 the clocks of New York change on 8 March and 1 November,
those of London on 29 March and 25 October.
"""

import unittest
from datetime import UTC, datetime

from loyalbell.core.clock.send_windows import NO_QUIET, QuietHours, SendWindow, opens
from loyalbell.core.clock.zones import zone_of

CHANGES = {
    "America/New_York": (datetime(2026, 3, 8, tzinfo=UTC), datetime(2026, 11, 1, tzinfo=UTC)),
    "Europe/London": (datetime(2026, 3, 29, tzinfo=UTC), datetime(2026, 10, 25, tzinfo=UTC)),
}
WINDOWS = (
    SendWindow(),
    SendWindow(kind="exact", begins="01:30"),
    SendWindow(kind="exact", begins="02:30"),
    SendWindow(kind="window", begins="01:00", ends="02:00"),
    SendWindow(kind="window", begins="01:15", ends="03:10"),
    SendWindow(kind="window", begins="02:15", ends="02:45"),
)
HOUR, STEP = 3_600, 180


class ChangingClocks(unittest.TestCase):
    def test_minute_by_minute(self) -> None:
        for zone_name, days in CHANGES.items():
            zone = zone_of(zone_name)
            for day in days:
                begin = int(day.timestamp()) - 6 * HOUR
                for window in WINDOWS:
                    for quiet in (NO_QUIET, QuietHours("21:00", "08:00")):
                        before = None
                        for at in range(begin, begin + 36 * HOUR, STEP):
                            found = opens(at, window, quiet, zone)
                            if found is None:
                                break
                            self.assertGreaterEqual(found, at)
                            self.assertEqual(opens(found, window, quiet, zone), found, (zone_name, window))
                            self.assertGreaterEqual(found, before or found, (zone_name, window))
                            before = found

    def test_what_the_clocks_skip_and_what_they_show_twice(self) -> None:
        """By hand: 2:30 on 8 March is not there in New York, 1:30 on 1 November is there twice."""
        new_york = zone_of("America/New_York")
        for begins, midnight, expected in (
            ("02:30", datetime(2026, 3, 8, 5, tzinfo=UTC), datetime(2026, 3, 8, 7, tzinfo=UTC)),
            ("01:30", datetime(2026, 11, 1, 4, tzinfo=UTC), datetime(2026, 11, 1, 5, 30, tzinfo=UTC)),
        ):
            window = SendWindow(kind="exact", begins=begins)
            found = opens(int(midnight.timestamp()), window, NO_QUIET, new_york)
            self.assertEqual(found, int(expected.timestamp()))
        second = int(datetime(2026, 11, 1, 6, 30, tzinfo=UTC).timestamp())
        window = SendWindow(kind="exact", begins="01:30")
        self.assertGreater(opens(second, window, NO_QUIET, new_york) or 0, second + 20 * HOUR)


if __name__ == "__main__":
    unittest.main()
