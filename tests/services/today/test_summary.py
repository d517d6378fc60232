"""The week in sentences, and by email on Mondays: once a week and address, whatever happens."""

from datetime import UTC, datetime, timedelta

from loyalbell.services.settings.channels import ResultsSettings
from loyalbell.services.today.summary import BACK, OUT, past
from loyalbell.services.today.summary_mail import send_due
from tests.services.sequences.test_runner import SequenceCase
from tests.support import FakeSender

MONDAY = datetime(2026, 6, 1, 12, 30, tzinfo=UTC)
"""Half past eight in the shop's own zone, New York."""


class SummaryTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        self.clock.instant = MONDAY
        with self.application.database.transaction() as session:
            ResultsSettings(summary_to=["ida@shop.example", "al@shop.example"]).save(session)

    def to(self) -> list[str]:
        return [one.recipient for one in self.sender.handed]

    def test_on_mondays_once_to_each(self) -> None:
        self.clock.instant = MONDAY - timedelta(hours=1)
        self.assertEqual(send_due(self.application, self.sender), 0, "half past seven")
        self.clock.instant = MONDAY
        self.assertEqual(send_due(self.application, self.sender), 2)
        for hours in range(0, 7 * 24 - 1, 5):
            self.clock.instant = MONDAY + timedelta(hours=hours)
            self.assertEqual(send_due(self.application, self.sender), 0)
        self.assertEqual(self.to(), ["ida@shop.example", "al@shop.example"])
        self.clock.instant = MONDAY + timedelta(days=7)
        self.assertEqual(send_due(self.application, self.sender), 2, "the next week")

    def test_every_day_where_that_is_wished(self) -> None:
        with self.application.database.transaction() as session:
            ResultsSettings(summary_to=["ida@shop.example"], summary_every="day").save(session)
        for hours in range(-2, 4 * 24, 2):
            self.clock.instant = MONDAY + timedelta(hours=hours)
            send_due(self.application, self.sender)
        self.assertEqual(len(self.to()), 4)
        text = self.sender.handed[1].content.decode()
        self.assertIn("Test Shop, Monday, 1 June", text)
        self.assertIn("You get this every day.", text)

    def test_an_address_that_stands_twice_gets_it_once(self) -> None:
        with self.application.database.transaction() as session:
            ResultsSettings(summary_to=["ida@shop.example", "Ida@shop.example"]).save(session)
        send_due(self.application, self.sender)
        self.assertEqual(self.to(), ["ida@shop.example"])

    def test_on_wednesday_it_is_too_late(self) -> None:
        self.clock.instant = MONDAY + timedelta(days=2)
        self.assertEqual(send_due(self.application, self.sender), 0)

    def test_what_is_in_doubt_is_not_sent_again_and_what_was_not_taken_is(self) -> None:
        self.sender = FakeSender("unsure")
        send_due(self.application, self.sender)
        self.clock.instant = MONDAY + timedelta(days=7)
        self.sender = FakeSender("try later")
        send_due(self.application, self.sender)
        self.sender = FakeSender()
        self.clock.move_on(timedelta(minutes=59))
        self.assertEqual(send_due(self.application, self.sender), 0, "not before an hour has passed")
        self.clock.move_on(timedelta(minutes=1))
        self.assertEqual(send_due(self.application, self.sender), 2)

    def test_nothing_leaves_while_silent(self) -> None:
        self.care(silent=["email"])
        self.assertEqual(send_due(self.application, self.sender), 0)

    def test_the_mail_says_what_the_page_says(self) -> None:
        person = self.add_person()
        self.add_order(person, 3, 2_500)
        self.add_order(person, 3, 900, cancelled_at=self.clock.now() - timedelta(days=2))
        self.add_order(person, 20, 4_000)
        send_due(self.application, self.sender)
        text = self.sender.handed[0].content.decode()
        lines = past(self.application).lines
        self.assertIn("None of 1 order followed a message.", [line.words for line in lines])
        self.assertEqual([line.part for line in lines], [OUT, BACK])
        self.assertIn("Nothing was sent.", text)
        self.assertIn("None of 1 order followed a message.", text)
        self.assertIn("25 May to 31 May", text)
