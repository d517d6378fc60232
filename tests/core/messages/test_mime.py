import html
import re
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from email import policy
from email.parser import BytesParser

from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.messages.content import (
    Button,
    ChatContent,
    EmailContent,
    Heading,
    LetterheadLook,
    Offer,
    OwnHtml,
    Picture,
    ShownText,
    Text,
    TextContent,
    When,
)
from loyalbell.core.messages.email_rendering import RenderContext, compile_email, fill_email
from loyalbell.core.messages.merge_fields import FieldProblem, fill
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.core.messages.preflight import Finding, PreflightContext, blocks_sending, preflight
from loyalbell.core.segments.model import Group, Rule, SegmentCondition


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
    "preferences_url": "https://shop.example/p/x",
    "browser_url": "https://shop.example/v/x",
    "open_pixel": "https://shop.example/o/x.gif",
    "link_0": "https://shop.example/l/x/0",
}
URL = "https://shop.example/u/abc"


def mail_of(facts: dict[str, object], to_name: str = "Ann") -> bytes:
    filled = fill_email(compile_email(CONTENT, RenderContext(LOOK)), FACTS | facts)
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
        """Sources: RFC 5322 (3.6), RFC 2046 (5.1.4), RFC 2369 (3.2), RFC 8058 (3.1).

        Read by the standard library.
        """
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
        filled = fill_email(compile_email(CONTENT, RenderContext(LOOK)), FACTS)
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
        filled = fill_email(compile_email(CONTENT, RenderContext(LOOK)), FACTS | {"first_name": name})
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

    def test_texts_that_grow_without_end_are_stopped(self) -> None:
        long = "x" * 1_000
        for text in (
            "{% for a in (1..2000) %}" + long + "{% endfor %}",
            "{% for a in (1..2000) %}{% if a %}" + long + "{% endif %}{% endfor %}",
            "{% assign a = 'xxxxxxxxxx' %}" + "{% assign a = a | append: a %}" * 40,
            "{% capture b %}{% for a in (1..2000) %}" + long + "{% endfor %}{% endcapture %}",
        ):
            with self.assertRaises(FieldProblem):
                fill(text, {})
        self.assertEqual(len(fill("{% for a in (1..900) %}" + long + "{% endfor %}", {})), 900_000)


AROUND = PreflightContext(
    look=LOOK,
    set_links=frozenset({"booking_url"}),
    offers={1: "", 2: "The offer “Old” is over. Choose another."},
    pictures={4: ""},
    openings={1: "approved", 2: "waiting"},
    missing={"last_name": 61},
    audience=1_204,
    public_url="https://own.example",
    own_page=lambda path: path == "/there",
)


def judged(content: EmailContent, around: PreflightContext = AROUND) -> list[Finding]:
    return preflight(content, around, compile_email(content, RenderContext(around.look or LOOK)))


class Preflight(unittest.TestCase):
    def test_what_must_be_fixed_blocks(self) -> None:
        self.assertFalse(blocks_sending(judged(CONTENT)), judged(CONTENT))
        changes = {
            "no subject": {"subject": " "},
            "no blocks": {"blocks": []},
            "dead link": {"blocks": [Button(label="Go", url="htp:/x")]},
            "no page of ours": {"blocks": [Button(label="Go", url="https://own.example/gone")]},
            "unknown field": {"blocks": [Text(text="{{ frist_name }}")]},
            "a link not set": {"blocks": [Button(label="Go", url="{{ review_url }}")]},
            "open field": {"subject": "{{ first_name "},
            "no offer": {"blocks": [Offer()]},
            "an offer that is over": {"blocks": [Text(text="{{ offer_2.code }}")]},
            "no picture": {"blocks": [Picture(picture=9)]},
            "a deleted segment": {
                "blocks": [
                    Text(text="x", when=When(rule=Rule(root=Group(lines=[SegmentCondition(segment=5)]))))
                ]
            },
            "an empty page": {"form": "html"},
        }
        for what, change in changes.items():
            with self.subTest(what=what):
                content = CONTENT.model_copy(update=change)
                made = None if what == "open field" else compile_email(content, RenderContext(LOOK))
                self.assertTrue(blocks_sending(preflight(content, AROUND, made)))
        self.assertTrue(blocks_sending(judged(CONTENT, replace(AROUND, look=None))))
        self.assertTrue(blocks_sending(judged(CONTENT, replace(AROUND, attached=6_000_000))))
        lacking = {"email": ("There is no sender address.",)}
        self.assertTrue(blocks_sending(judged(CONTENT, replace(AROUND, lacking=lacking))))

    def test_what_to_look_at_says_where_and_how_many(self) -> None:
        pale = LOOK.model_copy(update={"accent": "#ffee88"})
        for change, around, words in (
            ({"blocks": [Text(text="{{ last_name }}")]}, AROUND, "61 of 1,204 have no last name"),
            (
                {"blocks": [Text(text="{{ last_name }}")]},
                replace(AROUND, is_estimate=True),
                "About 61 of 1,204 have no last name",
            ),
            ({"preview": ""}, AROUND, "no preview line"),
            ({"subject": "x" * 90}, AROUND, "about 90 characters"),
            ({"blocks": [Picture(picture=4)]}, AROUND, "no alt text"),
            ({}, replace(AROUND, look=pale), "too little contrast"),
            ({"blocks": [OwnHtml(html="<p onclick='x'><svg></svg>a</p>")]}, AROUND, "onclick on <p>"),
            ({"form": "html", "html": "<p>" + "long " * 30_000 + "</p>", "plain": "x"}, AROUND, "KB"),
            ({"subject": "FREE WINNER ACT NOW!!!"}, AROUND, "by our own rules"),
            ({}, replace(AROUND, filter_score=(3.0, "SUBJ_ALL_CAPS")), "by the filter on this machine"),
        ):
            found = judged(CONTENT.model_copy(update=change), around)
            self.assertTrue(
                any(words in one.words and one.level == "look at this" for one in found), (words, found)
            )

    def test_texts_and_chats(self) -> None:
        for writing, level, words in (
            (TextContent(), "must fix", "empty"),
            (TextContent(texts=[ShownText(text="Come by. Reply STOP to end")]), "fine", "alphabet"),
            (TextContent(texts=[ShownText(text="Come by")]), "look at this", "how to stop"),
            (TextContent(texts=[ShownText(text="It’s time. STOP")]), "look at this", "wide alphabet"),
            (TextContent(texts=[ShownText(text="long " * 120 + "STOP")]), "look at this", "4 parts"),
            (ChatContent(texts=[ShownText(text="Hi")]), "look at this", "No opening message"),
            (ChatContent(texts=[ShownText(text="Hi")], opening=2), "must fix", "not approved"),
            (ChatContent(texts=[ShownText(text="Hi")], opening=1), "fine", "quick replies"),
        ):
            found = preflight(writing, AROUND)
            self.assertTrue(any(one.level == level and words in one.words for one in found), (words, found))
