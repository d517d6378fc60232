"""Only whoever was delivered the goodbye is taken off."""

from loyalbell.services.scheduler import tick
from loyalbell.storage.schema import Suppression
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait
from tests.support import FakeSender

OFF = {"do": "stop contact", "id": "off", "channels": ["email"]}


class GoodbyeTest(SequenceCase):
    def begin(self) -> None:
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("bye"), wait("w", 5), OFF]})
        self.clock.move_on(HOUR)

    def taken_off(self) -> list[str]:
        with self.application.database.reading() as session:
            return [one.reason for one in session.query(Suppression)]

    def test_who_was_delivered_it(self) -> None:
        self.begin()
        self.walk(6 * DAY, DAY)
        self.assertEqual(self.taken_off(), ["stopped by a sequence"])

    def test_whom_the_network_did_not_take(self) -> None:
        """Seen: the goodbye took off people who never got it."""
        self.begin()
        for _ in range(40):
            tick(self.application, FakeSender("try later", "451 come back"))
            self.clock.move_on(6 * HOUR)
        self.assertEqual([one.state for one in self.deliveries()], ["failed"])
        self.assertEqual(self.taken_off(), [])

    def test_whose_goodbye_came_back(self) -> None:
        self.begin()
        tick(self.application, FakeSender("refused", "552 5.2.2 Mailbox full"))
        self.walk(6 * DAY, DAY)
        self.assertEqual([one.state for one in self.deliveries()], ["bounced"])
        self.assertEqual(self.taken_off(), [])

    def test_whose_goodbye_was_withheld(self) -> None:
        self.add_order(self.add_person(consent="refused"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("bye"), wait("w", 5), OFF]})
        self.clock.move_on(HOUR)
        self.walk(6 * DAY, DAY)
        self.assertEqual(self.taken_off(), [])
