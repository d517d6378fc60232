"""Starts that look at a segment each day: asked at many days together, and without what comes to nothing."""

import unittest
from datetime import UTC, datetime
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.clock.zones import DAY, zone_of
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import HistorySnapshot, People
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Group, OrdersCondition, Rule
from loyalbell.core.sequences.engine_facts import SendPolicy, SequenceHistory
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Rehearsal, RehearsalScene
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerContext, telling_hits, trigger_hits
from tests.core.segments.test_evaluation import PEOPLE, consents, groups, orders
from tests.support import NOW, ZONE, snapshot_of

END = int(NOW.timestamp())
DAYS = 40
WAYS = st.sampled_from(("joins", "leaves", "is in"))
AGAIN: list[dict[str, Any]] = [{"kind": "never"}, {"kind": "after", "days": 9}, {"kind": "each"}]


def plan_of(rule: Rule, way: str = "is in", **more: Any) -> Any:
    return read_plan(
        {
            "start": {"on": "segment", "way": way, "rule": rule.model_dump(mode="json"), "at": "09:00"},
            "steps": [
                {"do": "wait", "id": "w", "span": {"amount": 2, "unit": "days"}},
                {"do": "message", "id": "m", "message": 1},
            ],
            **more,
        }
    )


class Daily(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(orders, consents, groups, WAYS)
    def test_many_days_are_those_asked_one_by_one(self, order_rows, consent_rows, root, way) -> None:
        rule = Rule(root=root if isinstance(root, Group) else Group(lines=[root]))
        book = snapshot_of(PEOPLE, order_rows, consent_rows, joined=[END - 20 * DAY] * PEOPLE)
        found = {
            (one.at, one.person)
            for one in trigger_hits(plan_of(rule, way).start, book, END - DAYS * DAY, END, TriggerContext())
        }
        zone, expected = zone_of(ZONE), set()
        today = zone.day(END)
        for day in range(today - DAYS - 1, today + 1):
            at = zone.instant(day, 9 * 3_600)
            if not END - DAYS * DAY < at <= END:
                continue
            then = datetime.fromtimestamp(at, UTC)
            was = evaluate(rule, book, datetime.fromtimestamp(zone.instant(day - 1, 9 * 3_600), UTC))
            met = evaluate(rule, book, then)
            cross = {"joins": met & ~was, "leaves": was & ~met & book.on_file(at), "is in": met}[way]
            expected |= {(at, person) for person in cross.nonzero()[0].tolist()}
        self.assertEqual(found, expected)

    @settings(max_examples=40, deadline=None)
    @given(orders, consents, groups, st.sampled_from(AGAIN), st.booleans(), st.booleans())
    def test_what_comes_to_nothing_may_be_left_out(
        self, order_rows, consent_rows, root, again, narrowed, came_before
    ) -> None:
        """A rehearsal over all crossings of all days sends, lets in and ends the same."""
        rule = Rule(root=root if isinstance(root, Group) else Group(lines=[root]))
        only = Rule(root=Group(lines=[OrdersCondition(value=2)])).model_dump(mode="json")
        plan = plan_of(rule, again=again, **({"only": only} if narrowed else {}))
        book = snapshot_of(PEOPLE, order_rows, consent_rows, joined=[END - 90 * DAY] * PEOPLE)
        before = {0: [END - 60 * DAY]} if came_before else {}
        every = trigger_hits(plan.start, book, END - DAYS * DAY, END)

        def played(crossed: Any) -> Rehearsal:
            scene = RehearsalScene("key", tree_of(plan), crossed=crossed, before=before)
            return rehearse([scene], SequenceHistory(book, SendPolicy()), END - DAYS * DAY, END)

        found, whole = played(None), played(every)
        for what in ("sent", "entered", "outs", "refused", "standing", "stayed_out"):
            self.assertEqual(getattr(found, what), getattr(whole, what), what)

    def test_it_is_said_once_that_somebody_stays_out(self) -> None:
        """Not each day, and not of those whom this very line has brought in."""
        bought = Rule(root=Group(lines=[OrdersCondition()]))
        rows = [(person, END - 80 * DAY, 1, 100, None, None, 0) for person in range(3)]
        book = snapshot_of(3, rows, [(n, 0, 1, END - 85 * DAY) for n in range(3)])
        scene = RehearsalScene("key", tree_of(plan_of(bought)), before={1: [END - 70 * DAY]})
        found = rehearse([scene], SequenceHistory(book, SendPolicy()), END - DAYS * DAY, END)
        self.assertEqual([one.person for one in found.entered], [0, 2])
        self.assertEqual([(one.person, one.cause) for one in found.stayed_out], [(1, "came in before")])
        self.assertEqual(len(found.sent), 2)

    def test_who_is_not_meant_on_the_first_day_may_be_later(self) -> None:
        bought = Rule(root=Group(lines=[OrdersCondition()]))
        twice = Rule(root=Group(lines=[OrdersCondition(value=2)])).model_dump(mode="json")
        rows = [(0, END - 30 * DAY, 1, 100, None, None, 0), (0, END - 10 * DAY, 1, 100, None, None, 0)]
        scene = RehearsalScene("key", tree_of(plan_of(bought, only=twice)))
        found = rehearse([scene], SequenceHistory(snapshot_of(1, rows), SendPolicy()), END - DAYS * DAY, END)
        self.assertEqual([(END - one.at) // DAY for one in found.entered], [9])

    def test_whoever_closes_has_not_left_the_segment(self) -> None:
        book = HistorySnapshot(
            ZONE, "USD", People.of([1, 2], [0, 0], closed_at=[END - 5 * DAY, NEVER], birthday_month=[1, 1])
        )
        rule = Rule(root=Group(match="none", lines=[OrdersCondition()]))
        start = plan_of(rule, "leaves").start
        self.assertEqual(trigger_hits(start, book, END - DAYS * DAY, END, TriggerContext()), [])

    def test_only_the_first_day_is_looked_at_where_nobody_comes_in_twice(self) -> None:
        bought = Rule(root=Group(lines=[OrdersCondition()]))
        book = snapshot_of(1, [(0, END - 80 * DAY, 1, 100, None, None, 0)])
        span = (END - DAYS * DAY, END, TriggerContext())
        self.assertEqual(len(telling_hits(plan_of(bought), book, *span)), 1)
        self.assertEqual(len(telling_hits(plan_of(bought, again=AGAIN[2]), book, *span)), DAYS)

    def test_what_would_leave_after_the_end_is_not_counted(self) -> None:
        """They come in at 9:00 of the last day, and the message goes at 9:15 of the next."""
        start = {"on": "event"}
        release = {"kind": "exact", "begins": "09:15"}
        plan = read_plan(
            {"start": start, "steps": [{"do": "message", "id": "m", "message": 1, "release": release}]}
        )
        book = snapshot_of(1, [(0, END - 60, 1, 100, None, None, 0)], [(0, 0, 1, END - DAY)])
        scene = RehearsalScene("key", tree_of(plan))
        known = SequenceHistory(book, SendPolicy())
        self.assertEqual(len(rehearse([scene], known, END - DAY, END + DAY).sent), 1)
        found = rehearse([scene], known, END - DAY, END)
        self.assertEqual((len(found.entered), found.sent, found.under_way), (1, [], 1))
