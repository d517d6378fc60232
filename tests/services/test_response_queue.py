"""Opens and clicks are gathered: a storm of them is few transactions, and none is lost at a stop."""

from collections import Counter

from sqlalchemy import select

from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import engagement
from loyalbell.services.response_queue import AT_ONCE, SAME, Clicked, Opened
from loyalbell.services.scheduler import Heartbeat, tick
from loyalbell.storage.schema import Delivery, DeliveryEvent
from tests.services.delivery.test_dispatcher import SendingCase
from tests.support import FakeSender, wait_for

READER = "Mozilla/5.0 (X11; Linux x86_64) Browser/156.0"
PEOPLE = 30


class ResponseQueueTest(SendingCase):
    def setUp(self) -> None:
        super().setUp()
        campaign_commands.start_campaign(self.application, self.campaign(PEOPLE), PEOPLE, "Ida")
        tick(self.application, FakeSender())
        with self.application.database.reading() as session:
            self.tokens = list(session.scalars(select(Delivery.token).order_by(Delivery.id)))

    def events(self) -> Counter[tuple[int, str]]:
        with self.application.database.reading() as session:
            rows = session.execute(select(DeliveryEvent.delivery_id, DeliveryEvent.kind))
            return Counter((delivery, kind) for delivery, kind in rows)

    def test_a_storm_is_few_transactions_and_one_opening_each(self) -> None:
        responses = self.application.responses
        responses.is_served = True
        for _ in range(20):
            for token in self.tokens:
                engagement.opened(self.application, token, READER)
        engagement.clicked(self.application, self.tokens[0], "0")
        self.assertEqual(self.events(), Counter())
        before = self.application.database.turn.count
        self.assertEqual(responses.flush(), 20 * PEOPLE + 1)
        self.assertEqual(self.application.database.turn.count - before, -(-(20 * PEOPLE + 1) // AT_ONCE))
        self.assertEqual(
            self.events(), Counter({(at, "opened"): 1 for at in range(1, PEOPLE + 1)} | {(1, "clicked"): 1})
        )
        self.assertEqual(responses.flush(), 0)

    def test_opened_again_later_counts_again(self) -> None:
        engagement.opened(self.application, self.tokens[0], READER)
        engagement.opened(self.application, self.tokens[0], READER)
        self.clock.move_on(2 * SAME)
        engagement.opened(self.application, self.tokens[0], READER)
        self.assertEqual(self.events()[1, "opened"], 2)

    def test_what_nobody_was_sent_is_passed_over(self) -> None:
        for response in (Opened("nothing", READER), Clicked("nothing", 0, "https://shop.example")):
            self.application.responses.put(response)
        self.application.responses.settle()
        self.assertEqual(self.events(), Counter())

    def test_the_heartbeat_writes_them_and_its_stop_the_rest(self) -> None:
        heartbeat = Heartbeat(self.application, FakeSender())
        heartbeat.start()
        engagement.opened(self.application, self.tokens[0], READER)
        wait_for(lambda: self.events()[1, "opened"] == 1)
        engagement.opened(self.application, self.tokens[1], READER)
        heartbeat.stop()
        self.assertEqual(self.events()[2, "opened"], 1)
        engagement.opened(self.application, self.tokens[2], READER)
        self.assertEqual(self.events()[3, "opened"], 1, "where nobody else writes, it is written at once")
