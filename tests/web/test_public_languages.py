"""Customers' own pages in their language: every text is in every catalogue, and the page chooses well."""

import io
import re
import unittest
from email import message_from_bytes
from email.policy import default
from pathlib import Path

from babel.messages.extract import extract
from sqlalchemy import select

import loyalbell.web.public as public
from loyalbell.services.customers import asking, confirmation_mail, preference_centre
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.translations import (
    catalogue,
    language_for,
    languages,
    month_names,
    translator,
)
from loyalbell.storage.schema import Delivery, MessageVersion, Person
from tests.support import NOW, FakeSender
from tests.web import test_pages

TEMPLATES = Path(public.__file__).parent / "templates"
FILLED = re.compile(r"%\((\w+)\)s")


def texts_of_pages() -> set[str]:
    """What the templates say through ``_``, and the words that are handed to it."""
    found = set()
    for file in TEMPLATES.glob("*.html"):
        source = io.BytesIO(file.read_bytes())
        for _, text, _, _ in extract("jinja2.ext:babel_extract", source, keywords={"_": None}):
            found.add(text if isinstance(text, str) else text[0])
        found |= set(
            re.findall(r'"((?:%\(shop\)s will|Unsubscribe from)[^"]+)"', file.read_text(encoding="utf-8"))
        )
    found |= {*preference_centre.OFTEN.values(), *preference_centre.PAUSES.values(), "email", "text", "chat"}
    found |= {label for label, _ in asking.BASE.values()}
    return found | {confirmation_mail.CONFIRM_SUBJECT, confirmation_mail.CONFIRM_WORDS, "yes", "no"}


class Catalogues(unittest.TestCase):
    def test_every_text_is_in_every_language_with_the_same_gaps_to_fill(self) -> None:
        self.assertEqual(languages(), ("en", "de", "es", "fr"))
        texts = texts_of_pages()
        self.assertGreater(len(texts), 55)
        for language in languages()[1:]:
            known = catalogue(language)
            self.assertEqual({text for text in texts if text not in known}, set(), language)
            for text, translated in known.items():
                self.assertEqual(sorted(FILLED.findall(text)), sorted(FILLED.findall(translated)), text)

    def test_the_language_of_the_person_goes_before_that_of_the_browser(self) -> None:
        for wanted, accepts, language in (
            ("es-MX", "de-DE,de;q=0.9", "es"),
            (None, "de-AT,de;q=0.9,en;q=0.8", "de"),
            (None, "pt-BR,fr;q=0.7", "fr"),
            ("ja", "fr-CA", "fr"),
            ("", "", "en"),
            (None, "xx;;,\n,", "en"),
        ):
            self.assertEqual(language_for(wanted, accepts), language, (wanted, accepts))

    def test_what_fills_a_text_is_escaped(self) -> None:
        said = translator("de")("Thank you. %(shop)s may write to you from now on.", shop="<b>Ann & Co</b>")
        self.assertEqual(str(said), "Danke. &lt;b&gt;Ann &amp; Co&lt;/b&gt; darf Ihnen von nun an schreiben.")
        self.assertEqual(str(translator("de")("<script>")), "&lt;script&gt;")

    def test_months(self) -> None:
        """Source: CLDR, through babel."""
        self.assertEqual(month_names("de")[2], "März")
        self.assertEqual(month_names("es")[0], "enero")


class Pages(test_pages.PagesCase):
    def test_a_visitor_with_a_spanish_browser(self) -> None:
        spanish = {"Accept-Language": "es-ES,es;q=0.9"}
        page = self.client.get("/sign-up", headers=spanish).text
        self.assertIn("Noticias de Otterby Pet House", page)
        self.assertIn('<html lang="es"', page)
        wrong = self.client.post("/sign-up", data={"email": "no"}, headers=spanish).text
        self.assertIn("no parece una dirección de correo", wrong)
        self.client.post(
            "/sign-up", data={"email": "lucia@example.es", "first_name": "Lucía"}, headers=spanish
        )
        sender = FakeSender()
        confirmation_mail.send_due(self.application, sender)
        mail = message_from_bytes(sender.handed[0].content, policy=default)
        self.assertEqual(
            (mail["To"], mail["Subject"]),
            ("lucia@example.es", "Confirme su dirección para Otterby Pet House"),
        )
        self.assertIn("Alguien, esperamos que usted", mail.get_content())

    def test_a_german_customer_with_an_english_browser(self) -> None:
        with self.application.database.transaction() as session:
            session.get_one(Person, 1).language = "de-AT"
            version = session.scalars(select(MessageVersion.id).limit(1)).one()
            token = new_token("email")
            session.add(
                Delivery(
                    origin_kind="campaign",
                    origin_id=999,
                    person_id=1,
                    message_version_id=version,
                    channel="email",
                    token=token,
                    state="sent",
                    due_at=NOW,
                )
            )
        page = self.client.get(f"/u/{token}", headers={"Accept-Language": "en"}).text
        self.assertIn("Keine E-Mails mehr?", page)


if __name__ == "__main__":
    unittest.main()
