"""Emails: blocks to page and plain text, hostile content, conditions, own HTML, contrast, spam signs."""

import string
import unittest
from html.parser import HTMLParser

import wcag_contrast_ratio
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.messages import content as c
from loyalbell.core.messages.contrast import contrast
from loyalbell.core.messages.email_rendering import (
    CompiledEmail,
    PictureFact,
    RenderContext,
    compile_email,
    fill_email,
)
from loyalbell.core.messages.html.client_support import weak_features
from loyalbell.core.messages.html.own_html import clean
from loyalbell.core.messages.markup import Aside, as_html, as_plain
from loyalbell.core.messages.spam_signs import ENOUGH, Parts, signs
from loyalbell.core.segments.model import Rule

LOOK = c.LetterheadLook(header="Otterby", footer="12 Mill Row", ink="#1f2a2b", accent="#173b39")
KIT = RenderContext(
    LOOK,
    {1: PictureFact("https://shop.example/p/1", 900, "a dog")},
    {7: c.Text(text="kept words")},
    [("Our page", "https://page.example")],
)
NASTY = st.text(st.sampled_from("<>&\"'{}%[]()*_-\n\r\tabLBFIELD0X é🐕\x00\x0c\uffff"), max_size=60)
FACTS = {
    "shop_name": "Otterby",
    "unsubscribe_url": "https://s/u",
    "preferences_url": "https://s/p",
    "browser_url": "https://s/b",
    "open_pixel": "",
    "items_0": [{"name": "Oat <b>", "price": "$14", "url": "https://s/i", "picture": ""}],
    "offer_3": {
        "name": "10 % off",
        "code": "AAAAA-BBBBB",
        "terms": "Once.",
        "qr": "https://s/q",
        "url": "https://s/o",
    },
    **{f"link_{n}": f"https://s/l/{n}" for n in range(30)},
}


class Seen(HTMLParser):
    """The tags that a browser would see, and the words outside of them."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.words = ""
        self.hrefs: list[str | None] = []
        self.feed(page)
        self.close()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.hrefs += [value for name, value in attrs if name == "href"]

    def handle_data(self, data: str) -> None:
        self.words += data


def made(*blocks: object, **more: object) -> CompiledEmail:
    email = c.EmailContent.model_validate(
        {"subject": "Hello", "blocks": [one.model_dump() for one in blocks], **more}
    )  # type: ignore[attr-defined]
    return compile_email(email, KIT)


class Letters(unittest.TestCase):
    def test_every_kind_of_block_stands_in_page_and_plain_text(self) -> None:
        found = made(
            c.Heading(text="A heading"),
            c.Text(text="See **this** at [our page](https://x.example/?a=1&b=2)\n\n- one\n- two"),
            c.Button(label="Pick a time", url="https://b.example"),
            c.Picture(picture=1, alt="A wet dog", url="https://w.example"),
            c.Items(),
            c.Offer(offer=3),
            c.Divider(),
            c.Spacer(),
            c.Social(),
            c.Saved(saved=7),
            c.OwnHtml(html='<p>Own <a href="https://own.example">page</a></p>'),
            c.Columns(columns=[[c.Text(text="left")], [c.Button(label="Right", url="https://r.example")]]),
        )
        self.assertEqual(
            found.links,
            (
                "https://x.example/?a=1&b=2",
                "https://b.example",
                "https://w.example",
                "https://page.example",
                "https://own.example",
                "https://r.example",
            ),
        )
        filled = fill_email(found, FACTS)
        for words in (
            "A heading",
            "this",
            "our page",
            "one",
            "Pick a time",
            "Oat <b>",
            "AAAAA-BBBBB",
            "Our page",
            "kept words",
            "left",
            "Right",
            "12 Mill Row",
        ):
            self.assertIn(words, Seen(filled.html).words, words)
            self.assertIn(words, filled.text, words)
        for number in range(6):
            self.assertIn(f"https://s/l/{number}", Seen(filled.html).hrefs)
            if number != 4:  # own HTML stands in the page alone
                self.assertIn(f"https://s/l/{number}", filled.text)
        self.assertNotIn("LBFIELD", filled.html)

    def test_blocks_shown_to_some(self) -> None:
        when, otherwise = c.When(rule=Rule()), c.When(otherwise=True)
        found = made(
            c.Text(text="old dogs", when=when),
            c.Text(text="puppies", when=when),
            c.Columns(columns=[[c.Text(text="others")], []], when=otherwise),
        )
        self.assertEqual(len(found.rules), 2)
        for old, young, expected in (
            (True, False, "old dogs"),
            (False, True, "puppies"),
            (False, False, "others"),
        ):
            filled = fill_email(found, {**FACTS, "show_0": old, "show_1": young})
            for words in ("old dogs", "puppies", "others"):
                self.assertEqual(words in Seen(filled.html).words, words == expected)
                self.assertEqual(words in filled.text, words == expected)

    @given(NASTY)
    def test_what_a_field_holds_is_only_ever_words(self, value: str) -> None:
        found = made(
            c.Heading(text="Hi {{ first_name }}"),
            c.Text(text="**{{ first_name }}** [go](https://x.example)"),
            c.Button(label="{{ first_name }}", url="https://b.example"),
            c.OwnHtml(html="<p>{{ first_name }}</p>"),
        )
        harmless = fill_email(found, {**FACTS, "first_name": "Ann"})
        hostile = fill_email(found, {**FACTS, "first_name": value})
        self.assertEqual(Seen(hostile.html).tags, Seen(harmless.html).tags)
        self.assertEqual(Seen(hostile.html).hrefs, Seen(harmless.html).hrefs)
        self.assertNotIn("\n", hostile.subject)

    @given(NASTY.map(lambda text: text.replace("{{", "").replace("{%", "")))
    def test_what_the_author_types_never_breaks_the_page(self, text: str) -> None:
        plain = "".join(one for one in text if one not in "{*[]()-\n\r")
        found = made(
            c.Heading(text=text),
            c.Text(text=plain),
            c.Button(label=text, url=text),
            c.Picture(picture=1, alt=text),
        )
        page = Seen(fill_email(found, FACTS).html)
        self.assertEqual(
            page.tags,
            Seen(
                fill_email(
                    made(
                        c.Heading(text="a"),
                        c.Text(text="a"),
                        c.Button(label="a", url="a"),
                        c.Picture(picture=1, alt="a"),
                    ),
                    FACTS,
                ).html
            ).tags,
        )

    def test_marks(self) -> None:
        aside = Aside()
        page = aside.put_back(
            as_html(
                "a **b** *c* [d {{ x }}](https://e.example/{{ y }}) 2*3*4 - f", aside, lambda url: f"<{url}>"
            )
        )
        self.assertEqual(
            page, 'a <b>b</b> <i>c</i> <a href="<https://e.example/{{ y }}>">d {{ x }}</a> 2*3*4 - f'
        )
        self.assertEqual(
            as_plain("**b** [d](https://e.example/{{ y }})", str.upper), "b d: HTTPS://E.EXAMPLE/{{ Y }}"
        )

    def test_own_html_keeps_what_is_harmless_and_says_what_it_lost(self) -> None:
        found = clean(
            '<style>p{}</style><p style="color:red;position:fixed" onclick="x()">Hi {{ a }} <a'
            ' href="javascript:x">y</a><a href="{{ url }}">z</a></p><script>bad()</script>'
        )
        self.assertEqual(found.html, '<p style="color:red">Hi {{ a }} <a>y</a><a href="{{ url }}">z</a></p>')
        self.assertEqual(found.losses, ("<script>", "href on <a>", "onclick on <p>"))

    @given(st.text(st.sampled_from("<>/=\"' apstylerchimgonjvx:;&#{}"), max_size=80))
    def test_nothing_that_runs_survives(self, text: str) -> None:
        page = Seen(
            clean(f'<img src=x onerror="a()">{text}<script>a()</script><iframe src="b"></iframe>').html
        )
        self.assertFalse({"script", "iframe", "object", "form", "style", "svg"} & set(page.tags))

    def test_the_first_version_of_a_message_is_read(self) -> None:
        old = {
            "version": 1,
            "subject": "Hi",
            "preview": "",
            "letterhead": 1,
            "blocks": [{"kind": "text", "text": "x"}],
        }
        email = c.read_content(old).find("email")
        assert isinstance(email, c.EmailContent)
        self.assertEqual((email.subject, email.blocks[0].kind), ("Hi", "text"))
        for wrong, words in (
            ({"version": 9}, "newer"),
            ([], "object"),
            ({"version": 2, "writings": [{"channel": "pigeon"}]}, "writings"),
        ):
            with self.assertRaisesRegex(c.ContentProblem, words):
                c.read_content(wrong)

    def test_languages_fall_back(self) -> None:
        message = c.MessageContent(
            writings=[
                c.TextContent(texts=[c.ShownText(text=one)], language=one) for one in ("", "es", "pt-br")
            ]
        )
        found = {tag: message.find("text", tag).language for tag in ("es", "es-MX", "fr", "", "pt_BR", "pt")}  # type: ignore[union-attr]
        self.assertEqual(found, {"es": "es", "es-MX": "es", "fr": "", "": "", "pt_BR": "pt-br", "pt": ""})


class Judging(unittest.TestCase):
    @given(*(st.text(string.hexdigits[:16], min_size=6, max_size=6),) * 2)
    def test_contrast_is_that_of_the_reference(self, one: str, other: str) -> None:
        rgb = [tuple(int(text[at : at + 2], 16) / 255 for at in (0, 2, 4)) for text in (one, other)]
        self.assertAlmostEqual(contrast(f"#{one}", f"#{other}"), wcag_contrast_ratio.rgb(*rgb), delta=0.02)

    def test_contrast_of_black_on_white_is_21(self) -> None:
        """WCAG 2.2, definition of contrast ratio."""
        self.assertAlmostEqual(contrast("#000000", "#ffffff"), 21)

    def test_features_that_many_programs_lack(self) -> None:
        """The figures are those of caniemail, shipped in mail_programs.py."""
        found = {
            one.feature: (one.no, one.of)
            for one in weak_features('<svg></svg><p style="display:flex;color:red">x</p>')
        }
        self.assertEqual(found["<svg>"], (25, 42))
        self.assertIn("display: flex", found)
        self.assertNotIn("color", found)

    def test_spam_signs(self) -> None:
        calm = Parts(
            "Is it time for a bath?",
            "<p>Hello</p>",
            "Hello, it is time for a bath. " * 10,
            1,
            ("https://a.example",),
        )
        loud = Parts(
            "ACT NOW $$$ FREE!!!",
            "<p>x</p>",
            "CLICK HERE NOW winner guaranteed",
            3,
            ("http://1.2.3.4/",) * 30,
        )
        self.assertEqual(signs(calm), [])
        self.assertGreater(sum(one.points for one in signs(loud)), ENOUGH)
