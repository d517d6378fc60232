"""Parts of a writing that some are shown: what they are called, and who was shown which."""

import unittest

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import RenderContext, compile_email
from loyalbell.core.messages.sections import MOST_LETTERS, Section, marks, name_of
from loyalbell.core.messages.short_rendering import compile_short
from loyalbell.core.segments.model import Rule

RULE = Rule()
LOOK = c.LetterheadLook(header="Otterby", footer="12 Mill Row", ink="#1f2a2b", accent="#173b39")


class SectionsTest(unittest.TestCase):
    def email(self, *blocks: c.Block) -> tuple[Section, ...]:
        return compile_email(c.EmailContent(subject="Hi", blocks=list(blocks)), RenderContext(LOOK)).sections

    def test_an_email_names_its_sections_in_order(self) -> None:
        found = self.email(
            c.Heading(text="For all"),
            c.Text(text="**Dear** {{ first_name }}, [press](https://example.com)", when=c.When(rule=RULE)),
            c.Picture(when=c.When(rule=RULE)),
            c.Text(text="Everybody else", when=c.When(otherwise=True)),
            c.Divider(),
            c.Text(text="Not an else", when=c.When(otherwise=True)),
        )
        self.assertEqual(
            found,
            (
                Section("Dear first_name, press", "show_0"),
                Section("Picture", "show_1"),
                Section("Everybody else", "", ("show_0", "show_1")),
            ),
        )

    def test_sections_within_columns_are_counted_too(self) -> None:
        inner = c.Text(text="Inner", when=c.When(rule=RULE))
        found = self.email(
            c.Columns(columns=[[inner], []], when=c.When(rule=RULE)),
            c.Text(text="Last", when=c.When(rule=RULE)),
        )
        self.assertEqual(
            [(one.name, one.shows) for one in found],
            [("Columns", "show_0"), ("Inner", "show_1"), ("Last", "show_2")],
        )

    def test_a_text_message_too(self) -> None:
        texts = [
            c.ShownText(text="A", when=c.When(rule=RULE)),
            c.ShownText(text="B", when=c.When(otherwise=True)),
        ]
        found = compile_short(c.TextContent(texts=texts)).sections
        self.assertEqual(found, (Section("A", "show_0"), Section("B", "", ("show_0",))))
        self.assertEqual(marks(found, {"show_0": True}), "10")
        self.assertEqual(marks(found, {"show_0": False}), "01")
        self.assertEqual(marks((), {}), "")

    def test_long_words_are_shortened(self) -> None:
        name = name_of(c.Text(text="word " * 40))
        self.assertLessEqual(len(name), MOST_LETTERS)
        self.assertTrue(name.endswith("…"))


if __name__ == "__main__":
    unittest.main()
