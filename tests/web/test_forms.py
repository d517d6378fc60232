"""The editors' fields and what they stand for, there and back."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from starlette.datastructures import FormData

from loyalbell.core.segments.model import (
    BeforeLastDays,
    Ever,
    Group,
    LastDays,
    OrdersCondition,
    ReachCondition,
    Rule,
    RuleProblem,
)
from loyalbell.web.letter_form import as_pieces
from loyalbell.web.pictures import hour_bars, nice_top
from loyalbell.web.rule_form import lines_of, rule_from

DAYS = st.integers(1, 36_500)
PERIODS = st.just(Ever()) | st.builds(LastDays, days=DAYS) | st.builds(BeforeLastDays, days=DAYS)
COUNTS = st.builds(
    OrdersCondition,
    comparison=st.sampled_from(("at least", "at most", "exactly")),
    value=st.integers(1, 50),
    department=st.sampled_from((None, 1, 2)),
    period=PERIODS,
)
NEVER = st.builds(OrdersCondition, comparison=st.just("exactly"), value=st.just(0), period=PERIODS)
SUMS = st.builds(
    OrdersCondition,
    measure=st.just("sum"),
    comparison=st.sampled_from(("at least", "at most")),
    value=st.integers(0, 99_999),
    period=PERIODS,
)
REACH = st.builds(ReachCondition, channel=st.sampled_from(("email", "text", "chat")), can=st.booleans())
RULES = st.builds(
    lambda match, lines: Rule(root=Group(match=match, lines=lines)),
    st.sampled_from(("all", "any", "none")),
    st.lists(COUNTS | NEVER | SUMS | REACH, max_size=5),
)


def form_of(rule: Rule, act: str = "") -> FormData:
    fields: list[tuple[str, str]] = [("match", rule.root.match), ("act", act)]
    for line in lines_of(rule, {1: "Shop", 2: "Café"}, "USD"):
        fields += [("line", str(line.number)), (f"{line.number}.about", line.about)]
        fields += [(f"{line.number}.{name}", value) for name, value in line.fields.items()]
    return FormData(fields)


class RuleForm(unittest.TestCase):
    @given(RULES)
    def test_a_rule_survives_the_editor(self, rule: Rule) -> None:
        self.assertEqual(rule_from(form_of(rule), "USD"), rule)

    def test_lines_are_added_moved_and_taken_away(self) -> None:
        one, two = OrdersCondition(value=1), OrdersCondition(value=2)
        rule = Rule(root=Group(lines=[one, two]))
        cases = {
            "up:1": [two, one],
            "down:0": [two, one],
            "up:0": [one, two],
            "remove:0": [two],
            "remove:7": [one, two],
            "nonsense": [one, two],
        }
        for act, lines in cases.items():
            with self.subTest(act):
                self.assertEqual(rule_from(form_of(rule, act), "USD").root.lines, lines)
        self.assertEqual(len(rule_from(form_of(rule, "add:spent"), "USD").root.lines), 3)

    def test_mistakes_name_their_line(self) -> None:
        rule = Rule(root=Group(lines=[OrdersCondition(), OrdersCondition(measure="sum", value=100)]))
        for name, value, words in (
            ("0.value", "-1", "Line 1"), ("0.value", "1e3", "Line 1"), ("1.value", "lots", "Line 2"), ("1.value", "-5", "Line 2"),
            ("0.comparison", "around", "Line 1"), ("0.department", "1", ""),
        ):  # fmt: skip
            form = FormData([(k, value if k == name else v) for k, v in form_of(rule).multi_items()])
            if not words:
                self.assertEqual(rule_from(form, "USD").root.lines[0].department, 1)
                continue
            with self.subTest(name), self.assertRaisesRegex(RuleProblem, words):
                rule_from(form, "USD")


class LetterForm(unittest.TestCase):
    def test_fields_of_the_picker_become_chips_and_other_liquid_stays(self) -> None:
        pieces = as_pieces(
            'Hi {{ first_name | default: "you" }}, {{ last_name }} {{ other }}{% if a %}x{% endif %}'
        )
        self.assertEqual(
            [(p.field, p.fallback) for p in pieces if p.field], [("first_name", "you"), ("last_name", None)]
        )
        self.assertEqual(
            "".join(p.text for p in pieces if not p.field), "Hi ,  {{ other }}{% if a %}x{% endif %}"
        )

    @given(st.text(max_size=80))
    def test_no_text_is_lost(self, text: str) -> None:
        if "{{" not in text:
            self.assertEqual("".join(piece.text for piece in as_pieces(text)), text)


class Pictures(unittest.TestCase):
    @given(st.integers(0, 10**7))
    def test_the_top_of_a_picture_is_round_and_not_far_above(self, largest: int) -> None:
        top = nice_top(largest)
        self.assertGreaterEqual(top, max(largest, 5))
        self.assertLessEqual(top, max(2.5 * largest, 5))
        self.assertIn(str(top).rstrip("0"), ("1", "2", "5"))

    @given(st.lists(st.tuples(st.integers(0, 500), st.integers(0, 500)), max_size=48))
    def test_bars_stay_within_the_picture(self, counts: list[tuple[int, int]]) -> None:
        rows = [(hour, max(pair), min(pair)) for hour, pair in enumerate(counts)]
        found = hour_bars(rows)
        for bar in found.bars:
            self.assertGreaterEqual(bar.y, -1e-9)
            self.assertLessEqual(bar.y + bar.height, found.height + 1e-9)
            self.assertLessEqual(bar.x + bar.width, found.width)
