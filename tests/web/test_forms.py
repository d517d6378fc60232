"""The editors' fields and what they stand for, there and back."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from starlette.datastructures import FormData

from loyalbell.core.history.snapshot import Catalogue
from loyalbell.core.segments import model as m
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.model import Group, OrdersCondition, Rule, RuleProblem
from loyalbell.web.charts import hour_bars, nice_top
from loyalbell.web.messages.rich_text import as_pieces
from loyalbell.web.segments.condition_fields import Offers
from loyalbell.web.segments.forms import EditorLine, lines_of, rule_from

SAYING = Saying("USD", Catalogue(departments={1: "Shop", 2: "Café"}))
SOME = [("1", "Shop"), ("2", "Café")]
OFFERS = Offers(SOME, SOME, SOME, SOME, SOME, SOME, SOME, SOME, SOME, SOME, SOME)
DAYS = st.integers(1, 36_500)
PERIODS = (
    st.just(m.Ever())
    | st.builds(m.LastDays, days=DAYS)
    | st.builds(m.BeforeLastDays, days=DAYS)
    | st.builds(m.AfterJoining, days=DAYS)
    | st.tuples(DAYS, DAYS).map(lambda pair: m.BetweenDaysAgo(least=min(pair), most=max(pair)))
    | st.tuples(st.dates(), st.dates()).map(lambda pair: m.BetweenDates(first=min(pair), last=max(pair)))
)
COMPARED = st.sampled_from(("at least", "at most", "exactly"))
IDS = st.none() | st.integers(1, 9)
COUNT = st.integers(1, 50)
CHANNELS = st.sampled_from(("email", "text", "chat"))
SAFE = st.text(st.characters(exclude_categories=("C", "Z")), min_size=1, max_size=12)
LINES = st.one_of(
    st.builds(
        m.OrdersCondition,
        measure=st.sampled_from(("count", "sum", "average", "days", "first", "last")),
        comparison=COMPARED,
        value=COUNT,
        department=IDS,
        location=IDS,
        least=st.none() | COUNT,
        nth=st.none() | COUNT,
        period=PERIODS,
    ),
    st.builds(m.OrdersCondition, comparison=st.just("exactly"), value=st.just(0), period=PERIODS),
    st.builds(
        m.ItemsCondition,
        measure=st.sampled_from(("count", "quantity", "sum", "last")),
        comparison=COMPARED,
        value=COUNT,
        item=IDS,
        category=st.none() | SAFE,
        department=IDS,
        period=PERIODS,
    ),
    st.builds(
        m.VisitsCondition,
        measure=st.sampled_from(("count", "first", "last")),
        comparison=COMPARED,
        value=COUNT,
        department=IDS,
        period=PERIODS,
    ),
    st.builds(
        m.AppointmentsCondition,
        state=st.sampled_from(("ahead", "kept", "missed")),
        comparison=COMPARED,
        value=COUNT,
        ahead=st.integers(0, 90),
        item=IDS,
        period=PERIODS,
    ),
    st.builds(
        m.EventsCondition,
        kind=SAFE,
        property=st.none() | SAFE,
        holds=st.just("") | SAFE,
        comparison=COMPARED,
        value=COUNT,
        period=PERIODS,
    ),
    st.builds(
        m.MessagesCondition,
        act=st.sampled_from(("received", "opened", "clicked", "replied", "refused")),
        channel=st.none() | CHANNELS,
        message=IDS,
        comparison=COMPARED,
        value=COUNT,
        period=PERIODS,
    ),
    st.builds(
        m.AnswersCondition,
        kind=st.sampled_from(("review", "any")),
        low=st.integers(0, 100),
        high=st.integers(0, 100),
        comparison=COMPARED,
        value=COUNT,
        period=PERIODS,
    ),
    st.builds(m.ReachCondition, channel=CHANNELS, can=st.booleans()),
    st.builds(
        m.ConsentCondition, channel=CHANNELS, state=st.sampled_from(("agreed", "refused", "never asked"))
    ),
    st.builds(m.TagCondition, tag=st.integers(1, 9), has=st.booleans()),
    st.builds(
        m.FieldCondition,
        field=st.integers(1, 9),
        comparison=st.sampled_from(("is", "at least", "is known")),
        value=st.just("") | SAFE,
    ),
    st.builds(
        m.DateCondition,
        which=st.sampled_from(("birthday", "companion", "Wedding")),
        comparison=st.sampled_from(("in days", "within", "month")),
        value=st.integers(0, 365),
    ),
    st.builds(
        m.MembershipCondition,
        state=st.sampled_from(("runs", "renews in", "none")),
        plan=st.none() | SAFE,
        term=st.sampled_from((None, "yearly")),
        comparison=COMPARED,
        days=st.integers(0, 90),
    ),
    st.builds(
        m.BandCondition,
        bands=st.lists(st.sampled_from(("new", "late", "quiet")), min_size=1, unique=True).map(tuple),
        department=IDS,
    ),
    st.builds(
        m.GapCondition,
        what=st.sampled_from(("orders", "visits")),
        low=st.integers(1, 40),
        high=st.integers(40, 90),
        fewest=st.integers(2, 9),
        department=IDS,
    ),
    st.builds(
        m.OffersCondition,
        state=st.sampled_from(("hold", "used", "let run out")),
        offer=IDS,
        days=st.integers(0, 90),
        has=st.booleans(),
    ),
    st.builds(
        m.SequencesCondition,
        state=st.sampled_from(("under way", "came in", "held back")),
        sequence=IDS,
        days=st.integers(0, 90),
        has=st.booleans(),
    ),
    st.builds(
        m.TopCondition, percent=st.integers(1, 100).map(float), days=st.integers(0, 900), department=IDS
    ),
    st.builds(
        m.ScoresCondition,
        cells=st.lists(
            st.tuples(st.integers(1, 5), st.integers(1, 5)), min_size=1, max_size=5, unique=True
        ).map(tuple),
    ),
    st.builds(
        m.PersonCondition,
        fact=st.sampled_from(("city", "since")),
        comparison=st.sampled_from(("is", "at least")),
        value=SAFE,
    ),
    st.builds(m.SegmentCondition, segment=st.integers(1, 9), within=st.booleans()),
)
MATCHES = st.sampled_from(("all", "any", "none"))
GROUPS = st.recursive(
    LINES, lambda inner: st.builds(Group, match=MATCHES, lines=st.lists(inner, max_size=3)), max_leaves=8
)
RULES = st.builds(
    lambda match, lines: Rule(root=Group(match=match, lines=lines)), MATCHES, st.lists(GROUPS, max_size=4)
)


def form_of(rule: Rule, act: str = "") -> FormData:
    fields: list[tuple[str, str]] = [("match", rule.root.match), ("act", act)]
    for line in lines_of(rule, SAYING, OFFERS):
        fields += fields_of(line)
    return FormData(fields)


def fields_of(line: EditorLine) -> list[tuple[str, str]]:
    """What a browser sends of a line: a select always sends something."""
    number = str(line.number)
    if line.about == "group":
        inner = [pair for one in line.lines for pair in fields_of(one)]
        return [("line", f"({number}"), (f"{number}.match", line.match), *inner, ("line", ")")]
    found = [("line", number), (f"{number}.about", line.about)]
    for one in (one for pick in line.picks for one in pick.choosers):
        values = one.value if one.kind == "checks" else [one.value]
        found += [(f"{number}.{one.name}", value) for value in values]
    return found


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

    def test_lines_go_into_groups_and_out_again(self) -> None:
        one, two, three = (OrdersCondition(value=n) for n in (1, 2, 3))
        rule = Rule(root=Group(lines=[Group(match="any", lines=[one, two]), three]))
        # on the page: group 0 holds lines 1 and 2; line 3 follows it
        cases = {
            "in:3": [Group(match="any", lines=[one, two, three])],
            "out:2": [Group(match="any", lines=[one]), two, three],
            "up:2": [Group(match="any", lines=[two, one]), three],
            "in:1": rule.root.lines,
            "remove:0": [three],
        }
        for act, lines in cases.items():
            with self.subTest(act):
                self.assertEqual(rule_from(form_of(rule, act), "USD").root.lines, lines)
        added = rule_from(form_of(rule, "add:once>0"), "USD").root.lines[0]
        self.assertEqual(len(added.lines), 3)
        self.assertEqual(rule_from(form_of(rule, "add:group"), "USD").root.lines[2], Group(match="any"))

    def test_mistakes_name_their_line(self) -> None:
        rule = Rule(root=Group(lines=[OrdersCondition(), OrdersCondition(measure="sum", value=100)]))
        for name, value, words in (
            ("0.value", "-1", "Line 1"),
            ("0.value", "1e3", "Line 1"),
            ("1.value", "lots", "Line 2"),
            ("1.value", "-5", "Line 2"),
            ("0.comparison", "around", "Line 1"),
            ("0.department", "1", ""),
        ):
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
