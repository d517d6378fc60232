"""Styles of one's own HTML: kept where harmless; contrast against wcag-contrast-ratio and by hand."""

import unittest

import tinycss2
import wcag_contrast_ratio
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import RenderContext, compile_email
from loyalbell.core.messages.html.own_html import STYLES, clean
from loyalbell.core.messages.html.own_styles import clean_styles, hard_to_read
from loyalbell.core.messages.preflight import PreflightContext, preflight

LOOK = c.LetterheadLook(header="Shop", footer="1 Row", ink="#1f2a2b", accent="#173b39")
ALLOWED = frozenset(STYLES)
SHEET = "h1 { color: #ccc } /* x */ @media (max-width: 600px) { .w { width: 100% !important } }"


class KeptStyles(unittest.TestCase):
    def test_safe_rules_and_media_queries_are_kept(self) -> None:
        sheet, losses = clean_styles([SHEET], ALLOWED)
        self.assertEqual(losses, [])
        media = tinycss2.parse_stylesheet(sheet, skip_whitespace=True)[1]
        self.assertEqual(media.lower_at_keyword, "media")
        self.assertIn("width: 100% !important", sheet)

    def test_what_loads_moves_or_runs_is_not(self) -> None:
        for text, said in (
            (".a { background: url(https://spy.example/x.png) }", "background"),
            (".a { position: fixed; color: red }", "position"),
            ("@import 'https://x.example/y.css';", "@import"),
            ("@font-face { font-family: x; src: url(y) }", "@font-face"),
            (".a { width: expression(alert(1)) }", "width"),
        ):
            with self.subTest(text=text):
                sheet, losses = clean_styles([text], ALLOWED)
                self.assertNotRegex(sheet, r"url|fixed|import|font-face|expression|\\")
                self.assertTrue(any(said in one for one in losses), losses)

    @given(st.text(st.sampled_from("<>/{}@;:!styleabc.#()\\\"' \n"), max_size=120))
    def test_a_sheet_never_closes_its_element_and_never_becomes_a_field(self, text: str) -> None:
        cleaned = clean(f"<style>{text}</style><p>words</p>")
        self.assertNotIn("<", cleaned.styles)
        mail = compile_email(
            c.EmailContent(form="html", html=f"<style>{text}</style><p>words</p>"), RenderContext(LOOK)
        )
        head = mail.html.split("</head>")[0]
        self.assertLessEqual(head.count("</style>"), 1)
        self.assertNotRegex(head.partition("<style>")[2], r"\{\{|\{%")

    def test_they_stand_in_the_head_of_the_page_and_of_a_letter(self) -> None:
        text = "<style>@media (max-width: 600px) { .w { width: 100% } }</style><p class='w'>words</p>"
        own = c.EmailContent(form="html", html=text)
        letter = c.EmailContent(blocks=[c.OwnHtml(html=text)])
        for email in (own, letter):
            head = compile_email(email, RenderContext(LOOK)).html.split("</head>")[0]
            self.assertIn("@media (max-width: 600px) { .w { width: 100%; } }", head)


class Contrast(unittest.TestCase):
    def ratio(self, ink: str, ground: str) -> float:
        def parts(colour: str) -> tuple[float, ...]:
            return tuple(int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5))

        return float(wcag_contrast_ratio.rgb(parts(ink), parts(ground)))

    def test_a_pale_heading_is_found_by_its_sheet_its_style_and_its_attribute(self) -> None:
        """WCAG 2.2, success criterion 1.4.3: 4.5 to 1, and 3 to 1 for large words."""
        for page, sheet in (
            ('<h1 style="color:#ccc">Sale</h1>', ""),
            ("<h1>Sale</h1>", "h1 { color: #ccc }"),
            ('<h1 class="x">Sale</h1>', ".x { color: #ccc }"),
            ('<div id="x"><h1>Sale</h1></div>', "#x { color: rgb(204, 204, 204) }"),
            ('<font color="#cccccc">Sale</font>', ""),
            ('<table><tr><td bgcolor="#333333"><h1 style="color:#4a4a4a">Sale</h1></td></tr></table>', ""),
        ):
            with self.subTest(page=page, sheet=sheet):
                (found,) = hard_to_read(page, sheet)
                self.assertEqual(found.words, "Sale")
                self.assertAlmostEqual(found.ratio, self.ratio(found.ink, found.ground), places=6)

    def test_what_is_readable_is_not_found(self) -> None:
        for page in (
            "<p>plain</p>",
            '<p style="color:#767676">just enough</p>',
            '<h1 style="color:#949494">large enough</h1>',
            '<p style="color:rgba(0,0,0,0.1)">cannot be told</p>',
            '<div style="background:#173b39"><p style="color:#fff">on dark</p></div>',
        ):
            with self.subTest(page=page):
                self.assertEqual(hard_to_read(page), [])

    def test_the_same_grey_is_too_pale_for_small_words_and_enough_for_large_ones(self) -> None:
        """#949494 on white is 3.03 to 1."""
        self.assertEqual(len(hard_to_read('<p style="color:#949494">small</p>')), 1)
        self.assertEqual(hard_to_read('<p style="color:#949494;font-size:18pt">large</p>'), [])


class Checks(unittest.TestCase):
    def said(self, page: str) -> str:
        email = c.EmailContent(form="html", subject="Hello", preview="p", html=page)
        compiled = compile_email(email, RenderContext(LOOK))
        return " ".join(one.words for one in preflight(email, PreflightContext(look=LOOK), compiled))

    def test_own_html_is_looked_at_for_contrast_and_for_what_filters_mind(self) -> None:
        """Seen: a #ccc heading and FREE!!! ACT NOW raised nothing."""
        said = self.said('<h1 style="color:#ccc">FREE!!! ACT NOW</h1><p>Come by.</p>')
        self.assertIn("“FREE!!! ACT NOW” is hard to read", said)
        self.assertIn("phrases that filters know from spam", said)
        self.assertIn("several exclamation marks in a row", said)
        quiet = self.said("<h1>A quiet heading</h1><p>Come by when you like.</p>")
        self.assertNotIn("hard to read", quiet)
        self.assertNotIn("filters", quiet)

    def test_letters_are_looked_at_too(self) -> None:
        email = c.EmailContent(subject="Hello", preview="p", blocks=[c.Text(text="Act now, risk-free.")])
        compiled = compile_email(email, RenderContext(LOOK))
        said = " ".join(one.words for one in preflight(email, PreflightContext(look=LOOK), compiled))
        self.assertIn("phrases that filters know from spam", said)
