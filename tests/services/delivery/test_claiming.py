"""What takes long is worked out while the book's one writer is free; the transaction between only decides."""

import sqlite3
from datetime import datetime, timedelta
from typing import Any
from unittest.mock import patch

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.services.application import Application
from loyalbell.services.delivery import dispatcher, enrolment_recheck
from loyalbell.services.delivery.composing.composer import Composer
from loyalbell.services.scheduler import plan_due, tick
from loyalbell.services.sequences import manual_entry
from loyalbell.services.sequences.runner import SequenceRunner
from loyalbell.storage.schema import Appointment
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase, wait


def writer_is_free(application: Application) -> bool:
    """Asked over a connection of its own, which does not wait."""
    other = sqlite3.connect(application.database.path, timeout=0, isolation_level=None)
    try:
        other.execute("BEGIN IMMEDIATE")
        other.execute("ROLLBACK")
    except sqlite3.OperationalError:
        return False
    finally:
        other.close()
    return True


class ClaimTest(SequenceCase):
    def planned(self, people: int = 1) -> None:
        """Messages of people who came in one after another are due, and nothing has been sent."""
        plan = {
            "start": AFTER_AN_ORDER,
            "stops": [{"what": "booking"}, {"what": "order", "least": 1_000_000}],
            "steps": [self.message("m"), wait("w", 5)],
        }
        self.ring(plan)
        for number in range(people):
            self.clock.move_on(timedelta(minutes=1))
            self.add_order(self.add_person(f"p{number}@example.com"), 0)
        self.clock.move_on(HOUR)
        plan_due(self.application, SequenceRunner(self.application))
        self.assertEqual([one.state for one in self.deliveries()], ["planned"] * people)

    def book(self, person: int, at: datetime) -> None:
        """They booked a visit for next week."""
        starts = at + timedelta(days=7)
        with self.application.database.transaction() as session:
            session.add(Appointment(person_id=person, booked_at=at, starts_at=starts, state="booked"))

    def test_nobody_waits_while_runs_are_looked_at_and_messages_made(self) -> None:
        self.planned()
        free: dict[str, bool] = {}
        make, look = Composer.make, dispatcher.exited_since
        snapshot = self.application.snapshot

        def made(composer: Composer, ids: list[int]) -> Any:
            free["made"] = writer_is_free(self.application)
            return make(composer, ids)

        def looked(*of: Any) -> Any:
            free["looked"] = writer_is_free(self.application)
            return look(*of)

        def loaded() -> HistorySnapshot:
            free["snapshot"] = free.get("snapshot", True) and writer_is_free(self.application)
            return snapshot()

        with (
            patch.object(Composer, "make", made),
            patch.object(dispatcher, "exited_since", looked),
            patch.object(self.application, "snapshot", loaded),
        ):
            dispatcher.send_due(self.application, self.sender)
        self.assertEqual(free, {"made": True, "looked": True, "snapshot": True})
        self.assertEqual([one.state for one in self.deliveries()], ["sent"])

    def test_who_is_taken_out_between_the_look_and_the_claim(self) -> None:
        self.planned()
        look = dispatcher.exited_since

        def looked(*of: Any) -> Any:
            found = look(*of)
            manual_entry.move_person(self.application, self.enrolments()[0].id, "out", "Ida")
            return found

        with patch.object(dispatcher, "exited_since", looked):
            dispatcher.send_due(self.application, self.sender)
        self.assertEqual([(one.state, one.cause) for one in self.deliveries()], [("withheld", "left")])
        self.assertEqual(self.sender.handed, [])

    def test_what_falls_due_between_waits_for_the_next_claim(self) -> None:
        """Nothing is claimed of which it was not asked whether its run has ended."""
        self.planned(2)
        look = dispatcher._ended

        def only_the_first(*of: Any) -> dict[int, str | None]:
            return dict(list(look(*of).items())[:1])

        with patch.object(dispatcher, "_ended", only_the_first):
            dispatcher.send_due(self.application, self.sender)
        self.assertEqual([one.state for one in self.deliveries()], ["sent", "planned"])
        tick(self.application, self.sender)
        self.assertEqual([one.state for one in self.deliveries()], ["sent", "sent"])

    def test_a_fault_while_they_are_made_gives_them_back(self) -> None:
        self.planned(2)
        with patch.object(Composer, "make", side_effect=MemoryError), self.assertRaises(MemoryError):
            dispatcher.send_due(self.application, self.sender)
        self.assertEqual([one.state for one in self.deliveries()], ["planned"] * 2)
        tick(self.application, self.sender)
        self.assertEqual([one.state for one in self.deliveries()], ["sent"] * 2)
        self.assertEqual({one.attempts for one in self.deliveries()}, {1})

    def test_each_kind_of_event_is_looked_up_once_for_a_batch(self) -> None:
        """Seen: one scan of all events for each message, 10 ms each at 180 days."""
        self.planned(6)
        with patch.object(enrolment_recheck, "event_rows", wraps=enrolment_recheck.event_rows) as asked:
            dispatcher.send_due(self.application, self.sender)
        self.assertEqual(asked.call_count, 2)
        self.assertEqual([one.state for one in self.deliveries()], ["sent"] * 6)

    def test_an_event_ends_the_run_of_its_own_person_only_and_only_after_they_came_in(self) -> None:
        self.planned(3)
        people = [one.person_id for one in self.deliveries()]
        entered = {one.person_id: one.entered_at for one in self.enrolments()}
        self.book(people[0], entered[people[0]] + timedelta(minutes=5))
        self.book(people[1], entered[people[1]] - timedelta(seconds=30))
        dispatcher.send_due(self.application, self.sender)
        self.assertEqual([one.state for one in self.deliveries()], ["withheld", "sent", "sent"])
