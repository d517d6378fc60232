"""Tags and fields that never end. Seen: 6 kB of ``<a <a`` took 11 s; what is here is thirty times as long and
would take hours if it were read anew from each opening.
"""

import unittest

from loyalbell.core.messages.html import client_support, own_html, own_styles
from loyalbell.core.messages.html.unclosed import without_unclosed
from loyalbell.core.messages.merge_fields import TOKEN
from loyalbell.web.messages import rich_text

LONG = 200_000
NEVER_ENDS = ("<a ", "<", '<a x="', "{{", "{%", "[", "**a ", "<!--", "<style>", "[a](")


class UnclosedTest(unittest.TestCase):
    def test_only_what_never_ends_is_made_plain(self) -> None:
        for page, plain in (
            ("<p>one</p>", "<p>one</p>"),
            ("2 < 3 and 4 > 1", "2 < 3 and 4 > 1"),
            ("<a <b>x</b>", "&lt;a <b>x</b>"),
            ("end <a", "end &lt;a"),
            ("<!-- a <b>c</b> -->d", "<!-- a <b>c</b> -->d"),
            ("<!--[if mso]><table><![endif]-->", "<!--[if mso]><table><![endif]-->"),
            ("<!-- a --> <!-- b", "<!-- a --> &lt;!-- b"),
        ):
            self.assertEqual(without_unclosed(page), plain, page)

    def test_fields_end_before_the_next_begins(self) -> None:
        text = '{{ a }} {{ b {{ c | default: "x" }} {% if d %}e{% endif %} {{'
        self.assertEqual(
            TOKEN.findall(text), ["{{ a }}", '{{ c | default: "x" }}', "{% if d %}", "{% endif %}"]
        )

    def test_long_ones_are_read_once(self) -> None:
        for piece in NEVER_ENDS:
            text = piece * (LONG // len(piece))
            self.assertEqual(own_html.clean(text).html.count("<a "), 0, piece)
            self.assertLessEqual(len(client_support.weak_features(text)), 1, piece)
            self.assertEqual(own_styles.hard_to_read(text), [], piece)
            self.assertGreater(len(rich_text.as_rich(text)), 0, piece)


if __name__ == "__main__":
    unittest.main()
