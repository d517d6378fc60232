"""Links in mails that really left open their pages, and no other token of the mail does."""

import quopri
import re

from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.customers import preference_centre
from loyalbell.services.delivery.page_tokens import KEEP, PREFERENCES, VIEW, delivery_behind
from loyalbell.services.scheduler import tick
from tests.services.delivery.test_dispatcher import SendingCase
from tests.support import FakeSender


class PageTokens(SendingCase):
    def setUp(self) -> None:
        super().setUp()
        campaign = self.campaign(2)
        campaign_commands.start_campaign(self.application, campaign, 2, "Ida")
        sender = FakeSender()
        tick(self.application, sender)
        self.mails = [quopri.decodestring(one.content).decode() for one in sender.handed]

    def token(self, path: str, mail: int = 0) -> str:
        found = re.search(rf"/{path}/([\w.-]+)", self.mails[mail])
        assert found, path
        return found[1]

    def test_the_first_mail_of_a_book_has_them_already(self) -> None:
        for mail in (0, 1):
            token = self.token("preferences", mail)
            self.assertRegex(token, r"^[0-9a-f]{32}\.[0-9a-f]{16}$")
            chosen = preference_centre.choices(self.application, token)
            assert chosen
            self.assertEqual(chosen.person.email, f"p{mail}@example.com")
        self.assertIsNotNone(preference_centre.shown_again(self.application, self.token("view")))

    def test_what_is_clicked_or_loaded_opens_nothing(self) -> None:
        clicked, pixel, leave = self.token("l"), self.token("o").removesuffix(".gif"), self.token("u")
        for token in (clicked, pixel, leave):
            self.assertNotIn(".", token)
            self.assertIsNone(preference_centre.choices(self.application, token))
            self.assertIsNone(preference_centre.shown_again(self.application, token))
            self.assertIsNone(preference_centre.keep_on_list(self.application, token))

    def test_a_signature_is_for_one_message_and_one_page(self) -> None:
        mine, other = self.token("preferences"), self.token("preferences", 1)
        mixed = f"{mine.partition('.')[0]}.{other.partition('.')[2]}"
        with self.application.database.reading() as session:
            self.assertIsNotNone(delivery_behind(session, PREFERENCES, mine))
            for purpose, token in ((KEEP, mine), (VIEW, mine), (PREFERENCES, mixed), (PREFERENCES, "é.ü")):
                self.assertIsNone(delivery_behind(session, purpose, token))
