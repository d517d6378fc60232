import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.history.snapshot import CONSENT_STATES, Catalogue
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.funnel import funnel
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Ever,
    Group,
    LastDays,
    OrdersCondition,
    ReachCondition,
    Rule,
    RuleProblem,
    read_rule,
)
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.segments.warnings import warnings
from tests.support import NOW, ZONE, snapshot_of

PEOPLE = 5
SECONDS = int(NOW.timestamp())
DAY = 86_400

moments = st.integers(SECONDS - 200 * DAY, SECONDS + 30 * DAY)
orders = st.lists(
    st.builds(
        lambda person, at, department, money, void, back: (
            person,
            at,
            department,
            money,
            None if void is None else at + void,
            None if back is None else at + back[0],
            0 if back is None else min(back[1], money),
        ),
        st.integers(0, PEOPLE - 1),
        moments,
        st.sampled_from((0, 1, 2)),
        st.integers(1, 500),
        st.none() | st.integers(0, 40 * DAY),
        st.none() | st.tuples(st.integers(0, 40 * DAY), st.integers(1, 500)),
    ),
    max_size=25,
)
consents = st.lists(
    st.tuples(st.integers(0, PEOPLE - 1), st.sampled_from((0, 1)), st.integers(0, 3), moments),
    max_size=12,
    unique_by=lambda entry: entry[3],
)
periods = (
    st.just(Ever())
    | st.builds(LastDays, days=st.integers(1, 120))
    | st.builds(BeforeLastDays, days=st.integers(1, 120))
)
conditions = st.builds(
    OrdersCondition,
    measure=st.sampled_from(("count", "sum")),
    comparison=st.sampled_from(("at least", "at most", "exactly")),
    value=st.integers(0, 4) | st.integers(0, 900),
    department=st.sampled_from((None, 1, 2)),
    period=periods,
) | st.builds(ReachCondition, channel=st.sampled_from(("email", "text")), can=st.booleans())
groups = st.recursive(
    conditions,
    lambda inner: st.builds(
        Group, match=st.sampled_from(("all", "any", "none")), lines=st.lists(inner, max_size=4)
    ),
    max_leaves=8,
)


def slow_line(line, person, order_rows, consent_rows, as_of):
    """The same questions asked one person and one row at a time."""
    if isinstance(line, Group):
        held = [slow_line(part, person, order_rows, consent_rows, as_of) for part in line.lines]
        if not held:
            return True
        return {"all": all(held), "any": any(held), "none": not any(held)}[line.match]
    if isinstance(line, ReachCondition):
        channel, state = ("email", "text", "chat").index(line.channel), None
        for who, about, word, at in sorted(consent_rows, key=lambda entry: entry[3]):
            if who == person and about == channel and at <= as_of.timestamp():
                state = CONSENT_STATES[word]
        return (state == "agreed") == line.can
    measured, today = 0, as_of.astimezone(ZoneInfo(ZONE)).date()
    for who, at, department, money, void, back_at, back in order_rows:
        if who != person or at > as_of.timestamp() or (void is not None and void <= as_of.timestamp()):
            continue
        if line.department not in (None, department):
            continue
        days_ago = (today - datetime.fromtimestamp(at, ZoneInfo(ZONE)).date()).days
        if isinstance(line.period, LastDays) and not days_ago < line.period.days:
            continue
        if isinstance(line.period, BeforeLastDays) and not days_ago >= line.period.days:
            continue
        net = money - (back if back_at is not None and back_at <= as_of.timestamp() else 0)
        measured += 1 if line.measure == "count" else net
    return {
        "at least": measured >= line.value,
        "at most": measured <= line.value,
        "exactly": measured == line.value,
    }[line.comparison]


class AgainstPlainLoops(unittest.TestCase):
    @settings(max_examples=250, deadline=None)
    @given(orders, consents, groups, moments)
    def test_every_rule_as_of_any_instant(self, order_rows, consent_rows, root, at) -> None:
        root = root if isinstance(root, Group) else Group(lines=[root])
        as_of = datetime.fromtimestamp(at, UTC)
        found = evaluate(Rule(root=root), snapshot_of(PEOPLE, order_rows, consent_rows), as_of)
        slow = [slow_line(root, person, order_rows, consent_rows, as_of) for person in range(PEOPLE)]
        self.assertEqual(list(found), slow)

    @settings(max_examples=100, deadline=None)
    @given(
        orders,
        st.builds(
            Group,
            match=st.sampled_from(("all", "any", "none")),
            lines=st.lists(conditions, min_size=1, max_size=5),
        ),
        moments,
    )
    def test_the_ladder_ends_at_the_count_and_goes_one_way(self, order_rows, root, at) -> None:
        as_of, book, rule = datetime.fromtimestamp(at, UTC), snapshot_of(PEOPLE, order_rows), Rule(root=root)
        counts = funnel(rule, book, as_of)
        self.assertEqual(counts[-1], evaluate(rule, book, as_of).sum())
        self.assertEqual(counts[1:], sorted(counts[1:], reverse=root.match != "any"))

    @settings(max_examples=100, deadline=None)
    @given(orders, groups, moments)
    def test_nothing_looks_past_as_of(self, order_rows, root, at) -> None:
        rule = Rule(root=root if isinstance(root, Group) else Group(lines=[root]))
        as_of = datetime.fromtimestamp(at, UTC)
        known = [row for row in order_rows if row[1] <= at]
        self.assertEqual(
            list(evaluate(rule, snapshot_of(PEOPLE, order_rows), as_of)),
            list(evaluate(rule, snapshot_of(PEOPLE, known), as_of)),
        )

    @given(groups)
    def test_a_rule_survives_json(self, root) -> None:
        rule = Rule(root=root if isinstance(root, Group) else Group(lines=[root]))
        self.assertEqual(read_rule(rule.model_dump(mode="json")), rule)


class Examples(unittest.TestCase):
    def test_the_line_is_crossed_on_the_nth_day(self) -> None:
        """An order 60 local days ago is no longer "in the last 60 days"; one 59 days ago is."""
        rule = Rule(
            root=Group(lines=[OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60))])
        )
        book = snapshot_of(
            2, [(0, SECONDS - 60 * DAY, 1, 5, None, None, 0), (1, SECONDS - 59 * DAY, 1, 5, None, None, 0)]
        )
        self.assertEqual(list(evaluate(rule, book, NOW)), [True, False])

    def test_orders_are_counted_never_items(self) -> None:
        """Common practice, no source: three orders make the third; a cancelled one does not count."""
        rows = [(0, SECONDS - day * DAY, 1, 5, None, None, 0) for day in (5, 4, 3)] + [
            (0, SECONDS - 2 * DAY, 1, 5, SECONDS - DAY, None, 0)
        ]
        third = Rule(root=Group(lines=[OrdersCondition(comparison="exactly", value=3)]))
        self.assertTrue(evaluate(third, snapshot_of(1, rows), NOW)[0])
        fourth = Rule(root=Group(lines=[OrdersCondition(comparison="exactly", value=4)]))
        self.assertTrue(evaluate(fourth, snapshot_of(1, rows), NOW - timedelta(days=1, seconds=1))[0])

    def test_lapsed_without_ordered_before_is_warned_of(self) -> None:
        lapsed = OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60))
        bare, safe = Rule(root=Group(lines=[lapsed])), Rule(root=Group(lines=[OrdersCondition(), lapsed]))
        self.assertIn("never ordered", warnings(bare, [9, 5])[0].words)
        self.assertEqual(warnings(safe, [9, 7, 5]), [])

    def test_the_sentence(self) -> None:
        rule = Rule(
            root=Group(
                lines=[
                    OrdersCondition(department=2),
                    OrdersCondition(measure="sum", value=12050, period=LastDays(days=30)),
                ]
            )
        )
        said = (
            "Customers who have ordered at least once in Café ever and have spent at least $120.50 in the"
            " last 30 days"
        )
        self.assertEqual(say_rule(rule, Saying("USD", Catalogue(departments={2: "Café"}))), said)

    def test_a_broken_rule_names_its_line(self) -> None:
        good = {"about": "orders"}
        with self.assertRaisesRegex(RuleProblem, "Line 2"):
            read_rule(
                {
                    "version": 1,
                    "root": {"match": "all", "lines": [good, {"about": "orders", "value": "many"}]},
                }
            )
        with self.assertRaisesRegex(RuleProblem, "version 9"):
            read_rule({"version": 9, "root": {}})
        with self.assertRaises(RuleProblem):
            read_rule({"version": 1, "root": {"match": "all", "lines": [good] * 201}})
