"""What is for a day (a birthday greeting) never leaves after it, whoever lets it go and for whatever reason
it stood; what was meant for after the day is not bound to it (rules of the job, sections 1 and 6).
"""

from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import update

from loyalbell.core.policy.delivery_state import FAILED
from loyalbell.services.delivery.after_stop import decide_unsure, send_failed_again
from loyalbell.services.delivery.outbox import become
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing, volume_guard
from loyalbell.storage.schema import Delivery, Person
from tests.services.sequences.test_runner import DAY, HOUR, SequenceCase, wait

WEEKDAYS = {"kind": "window", "weekdays": [0, 1, 2, 3, 4], "begins": "10:00", "ends": "18:00"}


class ForADayTest(SequenceCase):
    """People born on Wednesday 3 June 2026, greeted at 9:00 in the shop's own zone."""

    def born(self, *days: int) -> None:
        for day in days:
            person = self.add_person(f"p{day}@example.com")
            with self.application.database.transaction() as session:
                values = {"birthday_month": 6, "birthday_day": day}
                session.execute(update(Person).where(Person.id == person).values(**values))

    def setUp(self) -> None:
        super().setUp()
        self.clock.instant = datetime(2026, 6, 1, 12, tzinfo=UTC)

    def birthdays(self, *steps: dict[str, Any]) -> int:
        made = self.ring({"start": {"on": "date", "days": 0, "at": "09:00"}, "steps": list(steps)})
        self.walk(HOUR)
        return made

    def go_to(self, day: int, hour: int = 14) -> None:
        self.clock.instant = datetime(2026, 6, day, hour, tzinfo=UTC)
        tick(self.application, self.sender)

    def states(self) -> list[tuple[str, str | None]]:
        return [(str(one.state), one.cause) for one in self.deliveries()]

    def held(self) -> int:
        (held,) = {one.held_batch_id for one in self.deliveries() if one.state == "held"}
        assert held is not None
        self.care(guard_floor=10_000)
        return held

    def test_released_three_days_later_it_is_too_late(self) -> None:
        """Found by the random worlds: a held greeting of 31 October left on 2 November."""
        self.born(3)
        self.care(guard_floor=0, newcomer_percent=0.01)
        self.birthdays(self.message("m"))
        self.go_to(3)
        batch = self.held()
        self.go_to(6)
        volume_guard.decide(self.application, batch, None, "Ida")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("withheld", "too late")])

    def test_released_on_the_day_it_goes(self) -> None:
        self.born(3)
        self.care(guard_floor=0, newcomer_percent=0.01)
        self.birthdays(self.message("m"))
        self.go_to(3)
        volume_guard.decide(self.application, self.held(), None, "Ida")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("sent", None)])

    def test_one_that_its_window_moved_to_monday_is_not_bound_to_sunday(self) -> None:
        self.born(7)
        self.care(guard_floor=0, newcomer_percent=0.01)
        self.birthdays(self.message("m", release=WEEKDAYS))
        self.go_to(8)
        batch = self.held()
        self.go_to(9)
        volume_guard.decide(self.application, batch, None, "Ida")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("sent", None)])

    def test_in_doubt_and_sent_again_after_the_day_it_is_too_late(self) -> None:
        self.born(3)
        self.sender.result = "unsure"
        made = self.birthdays(self.message("m"))
        self.go_to(3)
        self.assertEqual([one.state for one in self.deliveries()], ["unsure"])
        self.sender.result = "accepted"
        self.clock.move_on(2 * DAY)
        decide_unsure(self.application, made, True, "Ida", "sequence")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("withheld", "too late")])

    def test_given_up_and_sent_again_after_the_day_it_is_too_late(self) -> None:
        made = self.given_up()
        self.clock.move_on(6 * DAY)
        send_failed_again(self.application, "sequence", made, "Ida")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("withheld", "too late")])

    def test_given_up_and_sent_again_on_the_day_it_goes(self) -> None:
        made = self.given_up()
        send_failed_again(self.application, "sequence", made, "Ida")
        self.walk(HOUR)
        self.assertEqual(self.states(), [("sent", None)])

    def test_put_off_by_the_network_over_midnight_it_is_too_late(self) -> None:
        """The attempt after midnight was taken for a message planned for that day."""
        self.born(3)
        self.sender.result = "try later"
        self.birthdays(self.message("m"))
        self.go_to(3, 20)
        self.walk(timedelta(hours=3), timedelta(minutes=10))
        self.assertEqual([one.state for one in self.deliveries()], ["planned"])
        self.sender.result, handed = "accepted", len(self.sender.handed)
        self.go_to(4)
        self.walk(12 * HOUR)
        self.assertEqual(self.states(), [("withheld", "too late")])
        self.assertEqual(len(self.sender.handed), handed)

    def given_up(self) -> int:
        """A greeting that the network has given up on its day; the sequence's number."""
        self.born(3)
        self.sender.result = "try later"
        made = self.birthdays(self.message("m"))
        self.go_to(3)
        with self.application.database.transaction() as session:
            become(session.query(Delivery).one(), FAILED, cause="not accepted")
        self.sender.result = "accepted"
        return made

    def test_a_pause_over_a_follow_up_does_not_lose_it(self) -> None:
        """What is due five days after the birthday is not the birthday's own: it goes when the pause ends."""
        self.born(3)
        made = self.birthdays(wait("w", 5), self.message("m"))
        self.go_to(4)
        pausing.pause(self.application, made, "Ida")
        self.go_to(18)
        pausing.resume(self.application, made, True, True, "Ida")
        self.walk(timedelta(hours=2))
        self.assertEqual(self.states(), [("sent", None)])

    def test_a_pause_over_a_planned_follow_up_does_not_lose_it(self) -> None:
        self.born(3)
        made = self.birthdays(wait("w", 5), self.message("m"))
        self.care(silent=["email"])
        self.go_to(8)
        pausing.pause(self.application, made, "Ida")
        self.care(silent=[])
        self.go_to(18)
        pausing.resume(self.application, made, True, True, "Ida")
        self.walk(timedelta(hours=2))
        self.assertEqual(self.states(), [("sent", None)])
