"""Days, then a time, as the live engine does it: the check dates of rules.md, section 1 (common practice)."""

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase, wait

NEW_YORK = ZoneInfo("America/New_York")


class DaysThenATimeTest(SequenceCase):
    def test_the_dates_of_a_series(self) -> None:
        """Seen: two days later at 7:55 after Wednesday 9:00 went out on Saturday."""
        times = {"a": "07:55", "b": "11:05", "c": "09:15"}
        a, b, c = (self.message(step, release={"kind": "exact", "begins": at}) for step, at in times.items())
        person = self.add_person()
        self.walk(datetime(2026, 5, 13, 8, 30, tzinfo=NEW_YORK) - self.clock.now())
        self.ring({"start": AFTER_AN_ORDER, "steps": [wait("v", 2), a, wait("w", 3), b, wait("x", 14), c]})
        self.clock.move_on(timedelta(minutes=30))
        self.add_order(person, 0)
        self.walk(20 * 24 * HOUR)
        dates = [datetime(2026, 5, 15, 7, 55), datetime(2026, 5, 18, 11, 5), datetime(2026, 6, 1, 9, 15)]
        sent = [one.sent_at or one.due_at for one in self.deliveries("sent")]
        self.assertEqual(len(sent), 3)
        for date, gone in zip(dates, sent, strict=True):
            lag = gone - date.replace(tzinfo=NEW_YORK)
            self.assertTrue(timedelta(0) <= lag < HOUR, f"{date}: this clock ticks once an hour, not {lag}")
