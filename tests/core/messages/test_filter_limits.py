"""Filters of fields, chained. Seen: a line of them made 133 MB of text."""

import tracemalloc
import unittest

from loyalbell.core.messages.filter_limits import MOST_OUTPUT
from loyalbell.core.messages.merge_fields import FieldProblem, fill

LONG = "é" * 2_000


class FilterLimitsTest(unittest.TestCase):
    def test_what_would_grow_without_end_is_refused_before_it_has(self) -> None:
        for text in (
            '{{ a | replace: "", b | replace: "", b | replace: "", b }}',
            '{{ b | replace: "é", b }}',
            '{{ b | split: "" | join: b }}',
            "{{ 99999999999 " + "| times: 99999999999 " * 30 + "}}",
            "{{ b " + "| url_encode " * 600 + "}}",
        ):
            with self.subTest(text[:40]), self.assertRaisesRegex(FieldProblem, "too long"):
                fill(text, {"a": "aaaa", "b": LONG})

    def test_it_is_refused_before_the_memory_is_taken(self) -> None:
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        for text in ('{{ b | replace: "", b }}', '{{ b | split: "" | join: b }}'):
            with self.assertRaises(FieldProblem):
                fill(text, {"b": LONG})
        self.assertLess(tracemalloc.get_traced_memory()[1], 2 * MOST_OUTPUT)

    def test_ordinary_ones_are_as_they_were(self) -> None:
        for text, said in (
            ('{{ a | replace: "a", "b" }}', "bnn"),
            ('{{ a | replace: "", "-" }}', "-a-n-n-"),
            ('{{ "x,y" | split: "," | join: " and " }}', "x and y"),
            ("{{ 7 | times: 6 }}", "42"),
            ("{{ true }}", "true"),
            ("{{ missing | default: a | upcase }}", "ANN"),
            ('{{ "2026-05-12" | date: "%-d %B" }}', "12 May"),
        ):
            self.assertEqual(fill(text, {"a": "ann"}), said, text)

    def test_up_to_the_bound_it_is_filled(self) -> None:
        self.assertEqual(len(fill('{{ b | replace: "a", "aa" }}', {"b": "a" * (MOST_OUTPUT // 3)})), 666_666)


if __name__ == "__main__":
    unittest.main()
