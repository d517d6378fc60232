"""Yearly dates are of the person's own zone, and 29 February is kept where the shop has set it (rules of the
job, section 1). The zones' offsets are IANA's: in June New York is UTC-4, Tokyo UTC+9, Auckland UTC+12.
"""

from datetime import UTC, datetime, timedelta

from sqlalchemy import update

from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import read_rule
from loyalbell.storage.schema import Person
from tests.services.sequences.test_runner import SequenceCase

ZONES = {"tokyo": "Asia/Tokyo", "auckland": "Pacific/Auckland", "here": None}
GREETED = {
    "tokyo": datetime(2026, 6, 15, 0, tzinfo=UTC),
    "auckland": datetime(2026, 6, 14, 21, tzinfo=UTC),
    "here": datetime(2026, 6, 15, 13, tzinfo=UTC),
}
"""9:00 on 15 June where each of them lives."""


class OwnDaysTest(SequenceCase):
    def born(self, name: str, zone: str | None, month: int, day: int) -> int:
        person = self.add_person(f"{name}@example.com", zone=zone)
        with self.application.database.transaction() as session:
            values = {"birthday_month": month, "birthday_day": day}
            session.execute(update(Person).where(Person.id == person).values(**values))
        return person

    def having(self, comparison: str, at: datetime, value: int = 0) -> set[int]:
        line = {"about": "date", "comparison": comparison, "value": value}
        snapshot = self.application.snapshot()
        mask = evaluate(read_rule({"root": {"lines": [line]}}), snapshot, at, {})
        return {int(one) for one in snapshot.people.ids[mask]}

    def test_a_birthday_is_greeted_on_the_day_it_is_where_they_live(self) -> None:
        """Seen: a birthday of 15 June was greeted on 16 June in Tokyo and Auckland."""
        people = {name: self.born(name, zone, 6, 15) for name, zone in ZONES.items()}
        self.clock.instant = datetime(2026, 6, 13, 12, tzinfo=UTC)
        start = {"on": "date", "which": "birthday", "days": 0, "at": "09:00"}
        self.ring({"start": start, "steps": [self.message("m")]})
        self.walk(timedelta(days=4))
        sent = {one.person_id: one.sent_at for one in self.deliveries("sent")}
        self.assertEqual(sent, {people[name]: at for name, at in GREETED.items()})
        self.walk(timedelta(days=2))
        self.assertEqual(len(self.deliveries()), 3, "once a year each")

    def test_segments_ask_the_same_day(self) -> None:
        people = {name: self.born(name, zone, 6, 15) for name, zone in ZONES.items()}
        eve = datetime(2026, 6, 14, 13, tzinfo=UTC)
        self.assertEqual(self.having("in days", eve), {people["auckland"]}, "one o'clock at night there")
        after = datetime(2026, 6, 15, 16, tzinfo=UTC)
        self.assertEqual(self.having("in days", after), {people["here"]}, "elsewhere the 16th has begun")
        self.assertEqual(self.having("days ago", after, 1), {people["tokyo"], people["auckland"]})
        self.assertEqual(
            self.having("within", datetime(2026, 6, 14, 16, tzinfo=UTC), 1), set(people.values())
        )

    def test_a_fork_asks_it_too(self) -> None:
        self.born("tokyo", "Asia/Tokyo", 6, 15)
        today = {"root": {"lines": [{"about": "date", "comparison": "in days", "value": 0}]}}
        told = [{"do": "tell", "id": "t", "words": "Their birthday"}]
        plan = {
            "start": {"on": "date", "days": 0, "at": "00:30"},
            "steps": [{"do": "fork", "id": "f", "arms": [{"rule": today, "steps": told}]}],
        }
        self.clock.instant = datetime(2026, 6, 14, 12, tzinfo=UTC)
        self.ring(plan)
        self.walk(timedelta(hours=6))
        self.assertIn("t", str([one.trail for one in self.enrolments()]))

    def test_29_february_in_segments_is_as_set(self) -> None:
        """Seen: the setting was ignored by segments."""
        person = self.born("leap", None, 2, 29)
        noon = lambda month, day, year=2027: datetime(year, month, day, 17, tzinfo=UTC)  # noqa: E731
        self.assertEqual(self.having("in days", noon(2, 28)), {person})
        self.assertEqual(self.having("in days", noon(3, 1)), set())
        self.care(limits=[], quiet_begins="", quiet_ends="", leap_day="1 March")
        self.assertEqual(self.having("in days", noon(2, 28)), set())
        self.assertEqual(self.having("in days", noon(3, 1)), {person})
        self.assertEqual(self.having("in days", noon(2, 29, 2028)), {person})
        self.clock.instant = datetime(2027, 2, 27, 12, tzinfo=UTC)
        self.ring({"start": {"on": "date", "days": 0, "at": "09:00"}, "steps": [self.message("m")]})
        self.walk(timedelta(days=3))
        self.assertEqual(
            [one.sent_at for one in self.deliveries("sent")], [datetime(2027, 3, 1, 14, tzinfo=UTC)]
        )
