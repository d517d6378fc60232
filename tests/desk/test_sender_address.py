"""The sender's address is used only once somebody who reads its mail has confirmed it."""

import re

from loyalbell.channels.base import Outgoing
from loyalbell.desk import sender_address, setting_up
from loyalbell.desk.campaigns import CannotSend, draft_campaign, start_campaign
from tests.books import SHOP, DeskCase, FakeSender


class SenderAddressTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        setting_up.change_shop(
            self.desk, type(SHOP)(**vars(SHOP) | {"sender_email": "new@shop.example"}), "Ida"
        )

    def confirmed(self) -> bool:
        with self.desk.book.reading() as session:
            return sender_address.is_confirmed(session, self.desk.the_shop())

    def test_a_changed_address_must_be_confirmed_before_anything_goes_out(self) -> None:
        self.add_order(self.add_person(), 100)
        letter = self.letter()
        campaign = draft_campaign(self.desk, "One", self.lapsed_segment(), letter, "Ida")
        with self.assertRaises(CannotSend):
            start_campaign(self.desk, campaign, 1, "Ida")
        sender = FakeSender()
        sender_address.ask(self.desk, sender, "Ida")
        self.assertEqual(sender.handed[0].recipient, "new@shop.example")
        self.assertFalse(self.confirmed(), "asking is not yet knowing")
        sender_address.confirm(self.desk, token_in(sender.handed[0]))
        self.assertTrue(self.confirmed())
        self.assertEqual(start_campaign(self.desk, campaign, 1, "Ida"), 1)

    def test_an_older_link_and_a_guessed_one_confirm_nothing(self) -> None:
        sender = FakeSender()
        sender_address.ask(self.desk, sender, "Ida")
        sender_address.ask(self.desk, sender, "Ida")
        self.assertIsNone(sender_address.confirm(self.desk, token_in(sender.handed[0])))
        self.assertIsNone(sender_address.confirm(self.desk, ""))
        self.assertFalse(self.confirmed())
        token = token_in(sender.handed[1])
        self.assertEqual(
            [sender_address.confirm(self.desk, token) for _ in range(2)], ["new@shop.example"] * 2
        )

    def test_a_mail_server_that_does_not_take_it_is_said(self) -> None:
        with self.assertRaisesRegex(sender_address.NotAsked, "no connection"):
            sender_address.ask(self.desk, FakeSender("try later", "no connection"), "Ida")


def token_in(mail: Outgoing) -> str:
    found = re.search(rb"/sender/([0-9a-f]{32})", mail.content)
    assert found
    return found[1].decode()
