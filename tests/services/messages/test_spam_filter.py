"""Every message to start from, scored by SpamAssassin offline where it is installed (Debian's package)."""

import re
import unittest
from concurrent.futures import ThreadPoolExecutor

from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.services.messages import message_templates, preview, spam_filter
from loyalbell.services.settings.channels import LinkSettings
from tests.support import NOW, ApplicationCase


class SpamScore(ApplicationCase):
    def mail(self, key: str) -> bytes:
        found = message_templates.find(key)
        assert found is not None
        writing = message_templates.with_letterhead(found.content, 1).find("email")
        assert writing is not None
        person = self.add_person(f"{key}@example.com", first_name="Ann")
        shown = preview.read_as(self.application, writing, person)
        assert isinstance(shown, FilledEmail)
        envelope = Envelope(
            "Ida",
            "ida@shop.example",
            "Ann",
            f"{key}@example.com",
            f"<{key}.0123456789abcdef@shop.example>",
            NOW,
            "https://shop.example/u/x",
        )
        return make_mail(shown, envelope).as_bytes()

    @unittest.skipUnless(spam_filter.installed(), "SpamAssassin is not installed on this machine")
    def test_every_email_to_start_from_scores_below_three(self) -> None:
        with self.application.database.transaction() as session:
            LinkSettings(
                booking_url="https://shop.example/book",
                review_url="https://shop.example/review",
                phone="555-0100",
            ).save(session)
        keys = [one.key for one in message_templates.OCCASIONS if "email" in one.content.channels()]
        mails = [self.mail(key) for key in keys]
        with ThreadPoolExecutor(2) as pool:
            for key, score in zip(keys, pool.map(spam_filter.score, mails), strict=True):
                assert score is not None
                self.assertLess(score[0], 3, (key, score))

    def test_the_score_is_read_from_the_filters_own_header(self) -> None:
        """The form of the header as SpamAssassin 4 writes it, folded."""
        answer = (
            "X-Spam-Status: No, score=0.7 required=5.0 tests=HTML_FONT_LOW_CONTRAST,\n\tHTML_MESSAGE"
            " autolearn=no version=4.0.1\nSubject: x\n"
        )
        found = spam_filter._SCORE.search(answer)
        assert found is not None
        self.assertEqual(
            (found[1], re.split(r"[,\s]+", found[2].strip())),
            ("0.7", ["HTML_FONT_LOW_CONTRAST", "HTML_MESSAGE"]),
        )
