"""Who pressed which link: each once a link, of those it reached; and drawn on the email."""

from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import engagement
from loyalbell.services.results.links import ITEM, links_of
from loyalbell.services.results.ranges import days_of
from loyalbell.services.scheduler import tick
from loyalbell.storage.schema import Delivery, DeliveryEvent
from tests.services.delivery.test_dispatcher import SendingCase
from tests.support import FakeSender


class LinksTest(SendingCase):
    def test_people_are_counted_once_a_link_and_the_email_says_so(self) -> None:
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        tick(self.application, FakeSender())
        with self.application.database.reading() as session:
            tokens = [one.token for one in session.query(Delivery).order_by(Delivery.id)]
        for token in (tokens[0], tokens[0], tokens[1]):
            engagement.clicked(self.application, token, "0")
        with self.application.database.transaction() as session:
            first = session.query(Delivery).order_by(Delivery.id).first()
            assert first is not None
            session.add(DeliveryEvent(delivery_id=first.id, kind="clicked", at=self.clock.now()))
        days = days_of("7", self.clock.now().date(), self.application.the_shop().zone)
        found = links_of(self.application, ("campaign", campaign), days)
        assert found is not None
        self.assertEqual((found.delivered, found.pressed), (3, 2))
        by_number = {link.number: (link.people, link.share) for link in found.links}
        self.assertEqual(by_number[0], (2, 2 / 3))
        self.assertEqual(by_number[ITEM], (1, 1 / 3), "an item's card has no number")
        self.assertIn("67 %", found.html)
        self.assertNotIn("33 %", found.html)

    def test_nothing_was_delivered(self) -> None:
        days = days_of("7", self.clock.now().date(), self.application.the_shop().zone)
        self.assertIsNone(links_of(self.application, ("campaign", 99), days))
