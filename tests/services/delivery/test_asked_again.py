"""Every attempt is asked anew: a message that waited, was tried before or is a service goes by its own
rules.
"""

from datetime import UTC, datetime, timedelta

from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import manual_entry
from loyalbell.storage.schema import Campaign, Delivery, Message
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase, wait
from tests.support import FakeSender

EVENING = datetime(2026, 5, 13, 0, 30, tzinfo=UTC)
"""20:30 in New York on 12 May, half an hour before the quiet hours of the tests."""
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
