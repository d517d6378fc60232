"""A place waits for its message: whoever's message is held or put off stands there, and later waits count
from when it really left (rules of the job, section 6).
"""

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from sqlalchemy import delete

from loyalbell.channels.sender import Outcome, Outgoing
from loyalbell.core.clock.zones import zone_of
from loyalbell.services.rehearsal import forecast
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import manual_entry, pausing, volume_guard
from loyalbell.storage.schema import Delivery, Enrolment
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait
from tests.support import FakeSender

PEOPLE = 30
MINUTE = timedelta(minutes=1)


class Closed(FakeSender):
    """A network that takes nothing from us."""

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        return [Outcome(one.delivery_id, "try later", "530 sign in", about_us=True) for one in batch]


class PlaceWaitsTest(SequenceCase):
    def held(self, steps: list[dict[str, Any]]) -> int:
        """Thirty people whose first message is held by the guard; the batch's number."""
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=2, newcomer_percent=0.01)
        for number in range(PEOPLE):
            self.add_order(self.add_person(f"p{number}@example.com"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": steps})
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        held = [one for one in self.deliveries() if one.state == "held"]
        self.assertEqual(len(held), PEOPLE)
        return held[0].held_batch_id or 0

    def at(self, step: str) -> list[Enrolment]:
        return [one for one in self.enrolments("under way") if one.step == step]

    def test_nobody_walks_on_while_their_message_is_held(self) -> None:
        """Seen: 2,616 with a held welcome were counted as finished."""
        self.held([self.message("m")])
        self.walk(2 * DAY)
        self.assertEqual(len(self.at("m")), PEOPLE)
        self.assertEqual(self.enrolments("finished"), [])

    def test_released_they_get_the_next_one_after_its_wait(self) -> None:
        """Seen: released, 8 of 30 got messages 1 and 2 within one minute."""
        batch = self.held([self.message("m"), wait("w", 2), self.message("n")])
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        self.walk(3 * DAY)
        volume_guard.decide(self.application, batch, None, "Ida")
        self.walk(MINUTE, MINUTE)
        released = self.clock.now() - MINUTE
        self.assertEqual({one.step for one in self.deliveries("sent")}, {"m"})
        self.walk(3 * DAY)
        second = [one for one in self.deliveries("sent") if one.step == "n"]
        self.assertEqual(len(second), PEOPLE)
        for one in second:
            self.assertGreaterEqual((one.sent_at or released) - released, 2 * DAY)

    def test_dropped_they_go_on_without_it_and_are_not_taken_to_have_it(self) -> None:
        asks = {"did": "got", "steps": [{"do": "tell", "id": "t", "words": "They have it"}]}
        batch = self.held([self.message("m"), {"do": "fork", "id": "f", "arms": [asks]}])
        self.walk(DAY)
        volume_guard.decide(self.application, batch, 0, "Ida")
        tick(self.application, self.sender)
        self.assertEqual(len(self.enrolments("finished")), PEOPLE)
        self.assertEqual({one.sent for one in self.enrolments()}, {""})
        self.assertEqual([one for one in self.enrolments() if "t" in str(one.trail)], [])

    def test_let_go_while_the_sequence_is_paused_it_waits_with_it(self) -> None:
        """Found by the worlds: a batch that was released during a pause left."""
        batch = self.held([self.message("m")])
        sequence = self.deliveries()[0].origin_id
        pausing.pause(self.application, sequence, "Ida")
        volume_guard.decide(self.application, batch, None, "Ida")
        self.walk(3 * HOUR)
        self.assertEqual(self.sender.handed, [])
        self.assertEqual({str(one.state) for one in self.deliveries()}, {"paused"})
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        pausing.resume(self.application, sequence, True, True, "Ida")
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), PEOPLE)

    def test_a_message_that_is_put_off_by_the_network_holds_its_place(self) -> None:
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 1), self.message("n")]})
        self.clock.move_on(HOUR)
        for _ in range(30):
            tick(self.application, FakeSender("try later", "451 4.2.2 mailbox full"))
            self.clock.move_on(HOUR)
        self.assertEqual([one.step for one in self.enrolments()], ["m"])
        left = self.clock.now()
        self.walk(3 * DAY)
        sent = {one.step: one.sent_at for one in self.deliveries("sent")}
        self.assertGreaterEqual(sent["m"], left)
        self.assertGreaterEqual(sent["n"] - sent["m"], DAY)

    def test_a_channel_that_was_closed_for_a_day_moves_the_later_ones(self) -> None:
        """The message keeps the instant at which it was due; what follows counts from when it left."""
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 1), self.message("n")]})
        self.clock.move_on(HOUR)
        for _ in range(20):
            tick(self.application, Closed())
            self.clock.move_on(HOUR)
        self.walk(3 * DAY)
        sent = {one.step: one.sent_at for one in self.deliveries("sent")}
        self.assertGreaterEqual(sent["n"] - sent["m"], DAY)

    def test_punctual_ones_keep_their_clock_time(self) -> None:
        """A tick that comes minutes late moves no later wait: 7:55 stays 7:55."""
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring(
            {"start": AFTER_AN_ORDER, "steps": [wait("v", 3, "hours"), self.message("m"), wait("w", 2)]}
        )
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        due = self.enrolments()[0].due_at
        self.clock.instant = due + 7 * MINUTE
        tick(self.application, self.sender)
        self.assertEqual(self.enrolments()[0].due_at, due + 2 * DAY)

    def test_moved_on_by_hand_the_message_at_which_they_stood_does_not_follow_them(self) -> None:
        self.held([self.message("m"), wait("w", 2), self.message("n")])
        one = self.at("m")[0]
        manual_entry.move_person(self.application, one.id, "on", "Ida")
        tick(self.application, self.sender)
        mine = [d for d in self.deliveries() if d.person_id == one.person_id]
        self.assertEqual([(d.state, d.cause) for d in mine], [("withheld", "moved on")])

    def test_taken_out_and_back_they_are_not_stuck(self) -> None:
        """Their message was withheld when they left; it is not made a second time, and they go on."""
        batch = self.held([self.message("m"), wait("w", 2), self.message("n")])
        one = self.at("m")[0]
        manual_entry.move_person(self.application, one.id, "out", "Ida")
        volume_guard.decide(self.application, batch, None, "Ida")
        tick(self.application, self.sender)
        manual_entry.move_person(self.application, one.id, "back", "Ida")
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        self.walk(3 * DAY)
        mine = {d.step: d.state for d in self.deliveries() if d.person_id == one.person_id}
        self.assertEqual(mine, {"m": "withheld", "n": "sent"})

    def test_what_is_expected_takes_them_to_get_it_now(self) -> None:
        """Whose message is held stands there: the coming weeks count their later messages from today."""
        self.held([self.message("m"), wait("w", 2), self.message("n")])
        self.walk(3 * DAY)
        expected = forecast.look_ahead(self.application)
        zone = zone_of(self.application.the_shop().zone)
        in_two_days = zone.day(int((self.clock.now() + 2 * DAY).timestamp()))
        self.assertEqual({day: sum(n.values()) for day, n in expected.days.items()}, {in_two_days: PEOPLE})

    def test_what_is_expected_counts_what_waits_for_the_morning(self) -> None:
        """Planned by day while email was silent, let go at night: it is expected in the morning, once."""
        self.care(limits=[], quiet_begins="21:00", quiet_ends="08:00", silent=["email"], guard_floor=10_000)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 2), self.message("n")]})
        self.add_order(self.add_person("night@example.com"), 0)
        self.walk(14 * HOUR)
        self.care(silent=[])
        tick(self.application, self.sender)
        waiting = self.deliveries("planned")
        self.assertEqual(len(waiting), 1)
        zone = zone_of(self.application.the_shop().zone)
        morning = zone.day(int(waiting[0].due_at.timestamp()))
        expected = forecast.look_ahead(self.application).days
        self.assertEqual({day: sum(n.values()) for day, n in expected.items()}, {morning: 1, morning + 2: 1})

    def test_a_message_that_was_deleted_stops_nobody(self) -> None:
        self.held([self.message("m"), wait("w", 2)])
        with self.application.database.transaction() as session:
            session.execute(delete(Delivery))
        self.walk(3 * DAY)
        self.assertEqual(len(self.enrolments("finished")), PEOPLE)
