import html
import re
import unittest
from datetime import UTC, datetime
from email import policy
from email.parser import BytesParser

from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.messages.content import Button, EmailContent, Heading, LetterheadLook, Text
from loyalbell.core.messages.email import compile_email, fill_email
from loyalbell.core.messages.fields import FieldProblem, fill
from loyalbell.core.messages.mail import Envelope, make_mail
from loyalbell.core.messages.preflight import blocks_sending, preflight


def visible_text(page: str) -> str:
    return html.unescape(re.sub(r"<[^>]+>", " ", page))


LOOK = LetterheadLook(header="Shop & Co", footer="1 Mill Row", ink="#1f2a2b", accent="#173b39")
CONTENT = EmailContent(
    subject='{{ first_name | default: "Hello" }}, a < b & "c"',
    preview="Look inside",
    letterhead=1,
    blocks=[
        Heading(text='Dear {{ first_name | default: "friend & co <x>" }}'),
        Text(text='One.\n\nTwo, {{ last_name | default: "you" }}.\nThree <b>not bold</b>'),
        Button(label="Go & see", url="https://shop.example/?a=1&b=2"),
    ],
)
FACTS = {
    "shop_name": "Shop & Co",
    "unsubscribe_url": "https://shop.example/u/x",
    "open_pixel": "https://shop.example/o/x.gif",
    "link_0": "https://shop.example/l/x/0",
}
URL = "https://shop.example/u/abc"


def mail_of(facts: dict[str, object], to_name: str = "Ann") -> bytes:
    filled = fill_email(compile_email(CONTENT, LOOK), FACTS | facts)
    envelope = Envelope(
        "Ida",
        "ida@shop.example",
        to_name,
        "ann@example.com",
        "<t1@shop.example>",
        datetime(2026, 5, 12, 13, 40, tzinfo=UTC),
        URL,
    )
    return make_mail(filled, envelope).as_bytes()


class Mail(unittest.TestCase):
    def test_it_is_mail_as_the_standards_say(self) -> None:
        """Sources: RFC 5322 (3.6), RFC 2046 (5.1.4), RFC 2369 (3.2), RFC 8058 (3.1); read by the standard library."""
        raw = mail_of({"first_name": "Ann"})
        mail = BytesParser(policy=policy.default).parsebytes(raw)
        self.assertEqual(mail.defects, [])
        for header in ("From", "To", "Date", "Message-ID", "Subject"):
            self.assertEqual(len(mail.get_all(header)), 1, header)
        self.assertEqual(mail["Date"].datetime, datetime(2026, 5, 12, 13, 40, tzinfo=UTC))
        self.assertEqual(mail["List-Unsubscribe"], f"<{URL}>")
        self.assertEqual(mail["List-Unsubscribe-Post"], "List-Unsubscribe=One-Click")
        self.assertEqual(mail.get_content_type(), "multipart/alternative")
        self.assertEqual([part.get_content_type() for part in mail.iter_parts()], ["text/plain", "text/html"])
        self.assertLessEqual(max(len(line) for line in raw.split(b"\r\n")), 998)
        self.assertNotIn(b"\n", raw.replace(b"\r\n", b""))

    def test_fallbacks_and_escapes(self) -> None:
        filled = fill_email(compile_email(CONTENT, LOOK), FACTS)
        self.assertEqual(filled.subject, 'Hello, a < b & "c"')
        self.assertIn("Dear friend &amp; co &lt;x&gt;", filled.html)
        self.assertIn("&lt;b&gt;not bold&lt;/b&gt;", filled.html)
        self.assertIn("Dear friend & co <x>", filled.text)
        self.assertIn("Go & see:\nhttps://shop.example/l/x/0", filled.text)
        self.assertIn('src="https://shop.example/o/x.gif"', filled.html)

    def test_hostile_names_come_out_harmless(self) -> None:
        for name in (
            "<script>alert(1)</script>",
            "{{ shop_name }}{% raw %}",
            "A\r\nBcc: x@example.com",
            "=cmd()",
            '"><img src=x>',
        ):
            with self.subTest(name=name):
                raw = mail_of({"first_name": name}, to_name=name)
                mail = BytesParser(policy=policy.default).parsebytes(raw)
                page = mail.get_body(("html",)).get_content()
                self.assertIsNone(mail["Bcc"])
                self.assertNotIn("<script>alert", page)
                self.assertNotIn("<img src=x", page)
                self.assertEqual(len(mail.get_all("To")), 1)

    @settings(max_examples=60, deadline=None)
    @given(st.text(st.characters(exclude_categories=("C", "Z")), max_size=60))
    def test_any_name_arrives_whole(self, name: str) -> None:
        filled = fill_email(compile_email(CONTENT, LOOK), FACTS | {"first_name": name})
        self.assertIn("Dear " + (name or "friend & co <x>"), filled.text)
        self.assertIn(
            " ".join((name or "friend & co <x>").split()), " ".join(visible_text(filled.html).split())
        )


class Fields(unittest.TestCase):
    def test_a_missing_field_without_words_is_refused(self) -> None:
        with self.assertRaisesRegex(FieldProblem, "No first name on file"):
            fill("Hi {{ first_name }}", {})

    def test_unknown_fields_and_broken_ones_are_refused(self) -> None:
        for text, words in (
            ("{{ frist_name }}", "no field called"),
            ("{{ first_name", "not closed"),
            ("{% for %}", "not understood"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(FieldProblem, words):
                fill(text, {})

    def test_runaway_loops_are_stopped(self) -> None:
        with self.assertRaises(FieldProblem):
            fill("{% for a in (1..99999) %}{% for b in (1..99999) %}x{% endfor %}{% endfor %}", {})


class Preflight(unittest.TestCase):
    def test_what_must_be_fixed_blocks(self) -> None:
        whole = preflight(CONTENT, LOOK, "ida@shop.example")
        self.assertFalse(blocks_sending(whole), whole)
        changes = {
            "no subject": CONTENT.model_copy(update={"subject": " "}),
            "no blocks": CONTENT.model_copy(update={"blocks": []}),
            "dead link": CONTENT.model_copy(update={"blocks": [Button(label="Go", url="htp:/x")]}),
            "unknown field": CONTENT.model_copy(update={"blocks": [Text(text="{{ frist_name }}")]}),
            "open field": CONTENT.model_copy(update={"blocks": [Text(text="{{ first_name ")]}),
        }
        for what, content in changes.items():
            with self.subTest(what=what):
                self.assertTrue(blocks_sending(preflight(content, LOOK, "ida@shop.example")))
        self.assertTrue(blocks_sending(preflight(CONTENT, LOOK, "")))
        self.assertTrue(blocks_sending(preflight(CONTENT, None, "ida@shop.example")))
