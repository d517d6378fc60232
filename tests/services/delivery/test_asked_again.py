"""Every attempt is asked anew: a message that waited, was tried before or is a service goes by its own
rules.
"""

from datetime import UTC, datetime, timedelta
from typing import Any

from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.services.delivery import after_stop
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import manual_entry, volume_guard
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery, Message
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait
from tests.support import FakeSender

EVENING = datetime(2026, 5, 13, 0, 30, tzinfo=UTC)
"""20:30 in New York on 12 May, half an hour before the quiet hours of the tests."""
NOON = datetime(2026, 5, 12, 16, 0, tzinfo=UTC)
NIGHT = datetime(2026, 5, 13, 3, 40, tzinfo=UTC)
"""23:40 in New York on 12 May."""
MORNING = datetime(2026, 5, 13, 12, 0, tzinfo=UTC)


class CampaignAttemptsTest(CampaignPlanCase):
    def setUp(self) -> None:
        super().setUp()
        self.care(limits=[], quiet_begins="21:00", quiet_ends="08:00")
        self.clock.instant = EVENING

    def deliveries_of(self, campaign_id: int) -> list[Delivery]:
        with self.application.database.reading() as session:
            return list(
                session.query(Delivery).filter(
                    Delivery.origin_id == campaign_id, Delivery.origin_kind == "campaign"
                )
            )

    def test_a_retry_that_falls_into_the_quiet_hours_waits_for_the_morning(self) -> None:
        """Seen before: tried at 20:30, tried again at 21:05 and sent, though the quiet hours had begun."""
        made = self.draft(engaged_only=False)
        self.start(made)
        tick(self.application, FakeSender("try later", "451 come back"))
        self.assertEqual({one.attempts for one in self.deliveries_of(made)}, {1})
        self.clock.instant = EVENING + timedelta(minutes=45)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 0)
        self.assertEqual({one.due_at for one in self.deliveries_of(made)}, {MORNING})
        self.clock.instant = MORNING
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 6)

    def test_a_service_message_goes_at_night_and_beside_any_limit(self) -> None:
        """rules.md section 6: service messages are exempt from marketing limits, never from suppression."""
        self.care(limits=[FrequencyCap(count=1, days=30)], quiet_begins="21:00", quiet_ends="08:00")
        self.clock.instant = EVENING + timedelta(hours=3)
        first, second = self.draft(engaged_only=False), self.draft(engaged_only=False)
        with self.application.database.transaction() as session:
            for made in (first, second):
                message = session.get_one(Campaign, made).message_id
                session.get_one(Message, message).purpose = "service"
        for made in (first, second):
            self.start(made)
        tick(self.application, self.sender)
        self.assertEqual((self.sent(first), self.sent(second)), (6, 6))


class SequenceLastLookTest(SequenceCase):
    def planned(self) -> int:
        """Somebody's first message is planned, and the network is away. Returns their enrolment."""
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 5)]})
        self.clock.move_on(HOUR)
        tick(self.application, FakeSender("try later", "451 come back"))
        self.assertEqual([one.state for one in self.deliveries()], ["planned"])
        return self.enrolments()[0].id

    def test_who_was_taken_out_by_a_person_gets_nothing_any_more(self) -> None:
        enrolment = self.planned()
        manual_entry.move_person(self.application, enrolment, "out", "Ida")
        self.walk(2 * HOUR)
        self.assertEqual([(one.state, one.cause) for one in self.deliveries()], [("withheld", "left")])
        self.assertEqual(self.sender.handed, [])

    def test_who_stayed_gets_it_at_the_next_try(self) -> None:
        self.planned()
        self.walk(2 * HOUR)
        self.assertEqual([one.state for one in self.deliveries()], ["sent"])


class SequenceAttemptsTest(SequenceCase):
    """The seen cases: a message of a sequence that leaves later than its engine let it go."""

    def setUp(self) -> None:
        super().setUp()
        self.care(limits=[], quiet_begins="21:00", quiet_ends="08:00")
        self.clock.instant = NOON

    def planned(self, people: int = 3, **more: Any) -> None:
        """At noon: their first message is planned, and the network takes nothing."""
        for number in range(people):
            self.add_order(self.add_person(f"p{number}@example.com"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 5)], **more})
        self.clock.move_on(HOUR)
        tick(self.application, FakeSender("try later", "451 come back"))
        self.assertEqual({one.state for one in self.deliveries()}, {"planned"})

    def states(self) -> set[tuple[str, str | None]]:
        return {(one.state, one.cause) for one in self.deliveries()}

    def test_planned_by_day_and_the_program_back_at_night(self) -> None:
        self.planned()
        self.clock.instant = NIGHT
        tick(self.application, self.sender)
        self.assertEqual(self.sender.handed, [])
        self.assertEqual({one.due_at for one in self.deliveries()}, {MORNING})
        self.clock.instant = MORNING
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), 3)

    def test_the_morning_is_that_of_the_person(self) -> None:
        self.add_order(self.add_person("tokyo@example.com", zone="Asia/Tokyo"), 0)
        self.clock.move_on(-HOUR)
        self.care(limits=[], quiet_begins="", quiet_ends="")
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        self.clock.move_on(HOUR)
        tick(self.application, FakeSender("try later", "451 come back"))
        self.care(limits=[], quiet_begins="21:00", quiet_ends="08:00")
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual([one.due_at for one in self.deliveries()], [datetime(2026, 5, 12, 23, tzinfo=UTC)])

    def test_a_held_batch_released_at_night_goes_in_the_morning(self) -> None:
        """Seen: a batch released at 23:40, quiet hours 21 to 8: all sent at once."""
        self.care(limits=[], quiet_begins="21:00", quiet_ends="08:00", guard_floor=2, newcomer_percent=0.01)
        for number in range(30):
            self.add_order(self.add_person(f"p{number}@example.com"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 5)]})
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        held = [one for one in self.deliveries() if one.state == "held"]
        self.assertGreater(len(held), 10)
        before = len(self.sender.handed)
        self.clock.instant = NIGHT
        volume_guard.decide(self.application, held[0].held_batch_id or 0, None, "Ida")
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), before)
        self.clock.instant = MORNING
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), 30)

    def test_a_channel_that_was_silent_for_nine_days(self) -> None:
        self.planned()
        self.care(silent=["email"])
        self.clock.instant = NIGHT + 9 * DAY
        self.care(silent=[])
        tick(self.application, self.sender)
        self.assertEqual(self.sender.handed, [])
        self.assertEqual(self.states(), {("withheld", "too late")})

    def test_sent_again_by_a_person_at_night(self) -> None:
        self.planned()
        self.clock.move_on(HOUR)
        tick(self.application, FakeSender("unsure", "connection lost"))
        self.assertEqual({one.state for one in self.deliveries()}, {"unsure"})
        self.clock.instant = NIGHT
        sequence = self.deliveries()[0].origin_id
        after_stop.decide_unsure(self.application, sequence, True, "Ida", "sequence")
        tick(self.application, self.sender)
        self.assertEqual(self.sender.handed, [])
        self.assertEqual({one.due_at for one in self.deliveries()}, {MORNING})

    def test_an_exit_condition_that_came_true_while_it_waited(self) -> None:
        """Seen: the exit condition came true for all while held, and all were sent."""
        rule = {"root": {"lines": [{"about": "orders", "value": 2}]}}
        self.planned(stop_when=rule)
        for person in {one.person_id for one in self.deliveries()}:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual((self.sender.handed, self.states()), ([], {("withheld", "left")}))

    def test_a_condition_it_keeps_to_that_holds_no_longer(self) -> None:
        rule = {"root": {"lines": [{"about": "orders", "comparison": "at most", "value": 1}]}}
        self.planned(only=rule, keep_to_it=True)
        first, *others = sorted({one.person_id for one in self.deliveries()})
        for person in others:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        sent = {one.person_id for one in self.deliveries() if one.state == "sent"}
        self.assertEqual(sent, {first})

    def test_the_window_of_its_step_holds_at_every_attempt(self) -> None:
        self.clock.instant = NOON
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        window = {"kind": "window", "begins": "11:00", "ends": "13:00"}
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m", release=window), wait("w", 5)]})
        self.clock.move_on(HOUR)
        tick(self.application, FakeSender("try later", "451 come back"))
        self.clock.move_on(2 * HOUR)
        tick(self.application, self.sender)
        tomorrow = NOON.replace(day=13, hour=15)
        self.assertEqual([one.due_at for one in self.deliveries()], [tomorrow])

    def test_a_limit_reached_meanwhile_puts_it_off_within_its_patience(self) -> None:
        self.planned(people=1)
        person = self.deliveries()[0].person_id
        self.care(limits=[FrequencyCap(count=1, days=1)], quiet_begins="", quiet_ends="")
        self.ring({"start": {"on": "hand"}, "steps": [self.message("other")]}, "Other")
        with self.application.database.reading() as session:
            other = session.query(schema.Sequence).filter_by(name="Other").one().id
        manual_entry.bring_by_hand(self.application, other, [person], None, "Ida")
        self.clock.move_on(timedelta(minutes=1))
        tick(self.application, self.sender)
        first = sorted((one.step, one.state) for one in self.deliveries())
        self.walk(DAY + HOUR)
        self.assertEqual({one.state for one in self.deliveries()}, {"sent"}, first)
        times = sorted(one.sent_at for one in self.deliveries() if one.sent_at)
        self.assertGreaterEqual(times[1] - times[0], DAY)


class LatenessTest(SequenceCase):
    def test_a_message_a_quarter_of_an_hour_late_goes_and_an_hour_late_does_not_go_as_if_in_time(
        self,
    ) -> None:
        """A tick may lag by fifteen minutes.

        What is later than that is done late, and its patience decides.
        """
        for late, expected in ((timedelta(minutes=14), ["sent"]), (timedelta(hours=2), ["withheld"])):
            with self.subTest(late=late):
                self.setUp()
                self.add_order(self.add_person(), 0)
                self.clock.move_on(-HOUR)
                plan = {
                    "start": AFTER_AN_ORDER,
                    "patience": 0,
                    "steps": [
                        {"do": "wait", "id": "w", "span": {"amount": 3, "unit": "hours"}},
                        self.message("m"),
                    ],
                }
                self.ring(plan)
                self.clock.move_on(HOUR)
                tick(self.application, self.sender)
                self.clock.move_on(3 * HOUR + late)
                tick(self.application, self.sender)
                self.assertEqual([one.state for one in self.deliveries()], expected)
