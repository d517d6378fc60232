"""The sender's address is used only once somebody who reads its mail has confirmed it."""

import re

from loyalbell.channels.sender import Outgoing
from loyalbell.services.campaigns.commands import draft_campaign, start_campaign
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.settings import sender_address
from loyalbell.services.settings import shop as shop_settings
from tests.support import SHOP, ApplicationCase, FakeSender


class SenderAddressTest(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        shop_settings.change_shop(
            self.application, type(SHOP)(**vars(SHOP) | {"sender_email": "new@shop.example"}), "Ida"
        )

    def confirmed(self) -> bool:
        with self.application.database.reading() as session:
            return sender_address.is_confirmed(session, self.application.the_shop())

    def test_a_changed_address_must_be_confirmed_before_anything_goes_out(self) -> None:
        self.add_order(self.add_person(), 100)
        letter = self.letter()
        campaign = draft_campaign(self.application, "One", self.lapsed_segment(), letter, "Ida")
        with self.assertRaises(CannotSend):
            start_campaign(self.application, campaign, 1, "Ida")
        sender = FakeSender()
        sender_address.ask(self.application, sender, "Ida")
        self.assertEqual(sender.handed[0].recipient, "new@shop.example")
        self.assertFalse(self.confirmed(), "asking is not yet knowing")
        sender_address.confirm(self.application, token_in(sender.handed[0]))
        self.assertTrue(self.confirmed())
        self.assertEqual(start_campaign(self.application, campaign, 1, "Ida"), 1)

    def test_an_older_link_and_a_guessed_one_confirm_nothing(self) -> None:
        sender = FakeSender()
        sender_address.ask(self.application, sender, "Ida")
        sender_address.ask(self.application, sender, "Ida")
        self.assertIsNone(sender_address.confirm(self.application, token_in(sender.handed[0])))
        self.assertIsNone(sender_address.confirm(self.application, ""))
        self.assertFalse(self.confirmed())
        token = token_in(sender.handed[1])
        self.assertEqual(
            [sender_address.confirm(self.application, token) for _ in range(2)], ["new@shop.example"] * 2
        )

    def test_a_mail_server_that_does_not_take_it_is_said(self) -> None:
        with self.assertRaisesRegex(sender_address.NotAsked, "no connection"):
            sender_address.ask(self.application, FakeSender("try later", "no connection"), "Ida")


def token_in(mail: Outgoing) -> str:
    found = re.search(rb"/sender/([0-9a-f]{32})", mail.content)
    assert found
    return found[1].decode()
