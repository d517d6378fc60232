"""After a long gap: what is for a day is not sent after it, nothing follows what was skipped, and Today says
whom it concerns.
"""

from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import update

from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing
from loyalbell.services.today import queries as today_queries
from loyalbell.services.today import skipped
from loyalbell.storage.schema import Person, Sequence
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait


class AfterAGapTest(SequenceCase):
    def born(self, month: int, day: int) -> int:
        person = self.add_person(f"p{month}-{day}@example.com")
        with self.application.database.transaction() as session:
            values = {"birthday_month": month, "birthday_day": day}
            session.execute(update(Person).where(Person.id == person).values(**values))
        return person

    def birthdays(self, days: int, *steps: dict[str, Any]) -> None:
        self.clock.instant = datetime(2026, 6, 1, 12, tzinfo=UTC)
        self.ring({"start": {"on": "date", "days": days, "at": "09:00"}, "steps": list(steps)})
        self.walk(HOUR)

    def states(self) -> dict[str, tuple[str, str | None]]:
        return {one.step: (str(one.state), one.cause) for one in self.deliveries()}

    def test_no_birthday_greeting_three_days_late(self) -> None:
        """Seen: birthdays three days late went out as if it were the day."""
        person = self.born(6, 3)
        self.birthdays(0, self.message("m"), wait("w", 1), self.message("n"))
        self.clock.instant = datetime(2026, 6, 5, 14, tzinfo=UTC)
        self.walk(4 * DAY)
        self.assertEqual(self.states(), {"m": ("withheld", "too late")}, "and nothing follows it")
        self.assertEqual([(one.state, one.cause) for one in self.enrolments()], [("left", "too late")])
        total, rows = skipped.skipped(self.application)
        self.assertEqual([one.person.id for one in rows], [person])
        self.assertEqual(total and (total.messages, total.people), (1, 1))
        said = [one for one in today_queries.today(self.application).needs if one.link == "/skipped"]
        self.assertEqual([one.title for one in said], ["1 message came too late"])
        skipped.seen(self.application, "Ida")
        said = [one for one in today_queries.today(self.application).needs if one.link == "/skipped"]
        self.assertEqual(said, [])

    def test_a_pause_over_the_day_does_not_move_the_greeting(self) -> None:
        """Found by the random worlds: resumed eight days later, birthday greetings left then."""
        self.born(6, 3)
        self.born(6, 4)
        self.birthdays(0, self.message("m"))
        with self.application.database.reading() as session:
            sequence = session.query(Sequence).one().id
        self.care(silent=["email"])
        self.clock.instant = datetime(2026, 6, 3, 14, tzinfo=UTC)
        tick(self.application, self.sender)
        pausing.pause(self.application, sequence, "Ida")
        self.care(silent=[])
        self.clock.instant = datetime(2026, 6, 11, 14, tzinfo=UTC)
        pausing.resume(self.application, sequence, True, True, "Ida")
        self.walk(2 * DAY)
        found = [(str(one.state), one.cause) for one in self.deliveries()]
        self.assertEqual(found, [("withheld", "too late")] * 2)
        self.assertEqual(self.sender.handed, [])

    def test_later_on_the_same_day_it_still_goes(self) -> None:
        self.born(6, 3)
        self.birthdays(0, self.message("m"))
        self.clock.instant = datetime(2026, 6, 3, 20, tzinfo=UTC)
        tick(self.application, self.sender)
        self.assertEqual(self.states(), {"m": ("sent", None)})

    def test_what_is_for_the_days_before_goes_late_but_not_after_the_day(self) -> None:
        self.born(6, 16)
        self.born(6, 17)
        self.birthdays(-14, self.message("m"))
        self.clock.instant = datetime(2026, 6, 4, 20, tzinfo=UTC)
        tick(self.application, self.sender)
        self.assertEqual([str(one.state) for one in self.deliveries()], ["sent", "sent"])

    def test_put_off_by_quiet_hours_it_does_not_come_the_day_after(self) -> None:
        self.born(6, 3)
        self.care(limits=[], quiet_begins="17:00", quiet_ends="08:00")
        self.birthdays(0, wait("w", 9, "hours"), self.message("m"))
        self.walk(4 * DAY)
        self.assertEqual(self.states(), {"m": ("sent", None)}, "planned for the morning after: as it is made")

    def test_after_an_order_nothing_follows_what_was_too_late(self) -> None:
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring(
            {
                "start": AFTER_AN_ORDER,
                "patience": 2,
                "steps": [wait("v", 1), self.message("m"), wait("w", 9), self.message("n")],
            }
        )
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.clock.move_on(timedelta(days=5))
        self.walk(20 * DAY, 6 * HOUR)
        self.assertEqual(self.states(), {"m": ("withheld", "too late")})
