"""Segments kept, copied, frozen, compared, followed over time and explained."""

import json
import shutil
import tempfile
import unittest
from datetime import date, timedelta
from pathlib import Path

from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.core.history.visits import day_number, day_of_number
from loyalbell.core.segments import model as m
from loyalbell.core.segments.model import Group, Rule, RuleProblem, read_rule
from loyalbell.core.segments.warnings import warnings
from loyalbell.demo.messages import lapsed
from loyalbell.services.references import InUse
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import membership_changes, overlap, segment_templates
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.segments import size_over_time as segment_sizes
from loyalbell.services.segments.queries import SegmentProblem
from loyalbell.storage.schema import Segment
from tests.core.rhythm import cdnow
from tests.storage.files.test_export import bring
from tests.support import ApplicationCase, demo_book, wait_for


def rule(*lines: object, match: str = "all") -> Rule:
    return Rule(root=Group(match=match, lines=list(lines)))  # type: ignore[arg-type]


class Kept(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.people = [self.add_person(f"p{n}@example.com") for n in range(4)]
        for person, days in zip(self.people, (10, 59, 60, 200), strict=True):
            self.add_order(person, days)
        self.lapsed = segment_commands.keep(self.application, None, "Lapsed", lapsed(60), "Ida")

    def test_who_came_in_and_left(self) -> None:
        yesterday = self.clock.now() - timedelta(days=1)
        moved = membership_changes.movement(self.application, lapsed(60), yesterday)
        self.assertEqual((moved.then, moved.now, len(moved.left)), (1, 2, 0))
        came = membership_changes.members(self.application, moved.came, 0, 8)
        self.assertEqual([member.person.id for member in came], [self.people[2]])
        self.add_order(self.people[3], 0.1)
        moved = membership_changes.movement(self.application, lapsed(60), yesterday)
        kept = membership_changes.keep(self.application, "Came back", moved.left, "Ida")
        self.assertEqual(
            list(segment_queries.who(self.application, self.rule_kept(kept))[1]), [False, False, False, True]
        )

    def rule_kept(self, segment_id: int) -> Rule:
        with self.application.database.reading() as session:
            return segment_queries.rule_of(session.get_one(Segment, segment_id))

    def test_a_year_in_the_background(self) -> None:
        sizes = wait_for(lambda: segment_sizes.year(self.application, lapsed(60)))
        self.assertEqual((len(sizes), sizes[-1], sizes[-2], sizes[0]), (365, 2, 1, 0))  # type: ignore[arg-type, index]

    def test_why_in_and_why_out(self) -> None:
        found = segment_queries.why(self.application, lapsed(60), self.people[0])
        assert found is not None
        met, judged = found
        self.assertEqual((met, [one.met for one in judged]), (False, [True, False]))
        self.assertEqual([(one.fact, one.rows) for one in judged], [("1 time", "order"), ("1 time", "order")])
        self.assertIsNone(segment_queries.why(self.application, lapsed(60), 999))

    def test_leaning_on_others_and_not_on_itself(self) -> None:
        inner = segment_commands.keep(
            self.application, None, "Both", rule(m.SegmentCondition(segment=self.lapsed)), "Ida"
        )
        self.assertEqual(
            segment_queries.read(self.application, rule(m.SegmentCondition(segment=inner))).people, 2
        )
        with self.assertRaisesRegex(SegmentProblem, "lean on itself"):
            segment_commands.keep(
                self.application, self.lapsed, "Lapsed", rule(m.SegmentCondition(segment=inner)), "Ida"
            )
        with self.assertRaisesRegex(SegmentProblem, "has been deleted"):
            segment_commands.keep(self.application, None, "X", rule(m.SegmentCondition(segment=99)), "Ida")
        with self.assertRaisesRegex(InUse, "the segment “Both”"):
            segment_commands.drop(self.application, self.lapsed, "Ida")

    def test_copies_fixed_lists_and_comparing(self) -> None:
        self.assertNotEqual(
            segment_commands.copy(self.application, self.lapsed, "Ida"),
            segment_commands.copy(self.application, self.lapsed, "Ida"),
        )
        fixed = segment_commands.freeze(self.application, self.lapsed, "Ida")
        self.add_order(self.people[3], 0.1)
        overlaps = {one.inside: one.people for one in overlap.compare(self.application, [self.lapsed, fixed])}
        names = {len(inside): people for inside, people in overlaps.items()}
        self.assertEqual((names, sum(overlaps.values())), ({2: 1, 1: 1}, 2))

    def test_a_marketer_says_it_without_help(self) -> None:
        """People who used to come every six weeks, spent over 200 last year, and have nothing booked."""
        regular = self.add_person("regular@example.com")
        for days in (90, 132, 174, 216, 258):
            self.add_order(regular, days, 6_000)
        wanted = next(
            one
            for one in segment_templates.segment_templates(self.application)
            if one.name.startswith("Used to come")
        )
        found = segment_queries.read(self.application, wanted.rule)
        self.assertEqual([member.person.id for member in found.some], [regular])


class Starters(unittest.TestCase):
    def test_every_starter_can_be_read_and_said(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        application = demo_book(folder, people=200)
        self.addCleanup(application.close)
        found = segment_templates.segment_templates(application)
        self.assertEqual(
            {kind for one in found for kind in one.kinds}, {"shop", "restaurant", "salon", "clinic"}
        )
        for one in found:
            with self.subTest(one.name):
                self.assertEqual(read_rule(json.loads(one.rule.model_dump_json())), one.rule)
                self.assertGreaterEqual(segment_queries.read(application, one.rule).people, 0)
        self.assertGreater(sum(segment_queries.read(application, one.rule).people > 0 for one in found), 10)


class Odd(unittest.TestCase):
    def words(
        self, given: Rule, counts: list[int], last_week: int | None = None
    ) -> list[tuple[int | None, str]]:
        return [(one.line, one.words) for one in warnings(given, counts, last_week)]

    def test_contradictions_and_empty_groups(self) -> None:
        cases = (
            (rule(m.OrdersCondition(value=3), m.OrdersCondition(comparison="at most", value=2)), 1),
            (rule(m.TagCondition(tag=1), m.TagCondition(tag=1, has=False)), 1),
            (rule(m.ReachCondition(), m.ReachCondition(can=False)), 1),
        )
        for given, line in cases:
            self.assertIn("opposite of line 1", dict(self.words(given, [9, 5, 4]))[line])
        fine = rule(
            m.OrdersCondition(value=2),
            m.OrdersCondition(comparison="at most", value=2),
            m.ReachCondition(),
            m.ReachCondition(channel="text", can=False),
        )
        self.assertEqual(self.words(fine, [9, 8, 7, 6, 5]), [])
        self.assertIn("empty", self.words(rule(Group()), [9, 9])[-1][1])

    def test_far_from_last_week(self) -> None:
        one = rule(m.OrdersCondition())
        self.assertIn("far above", self.words(one, [900, 300], 100)[0][1])
        self.assertIn("far below", self.words(one, [900, 100], 300)[0][1])
        self.assertEqual(self.words(one, [900, 110], 100) + self.words(one, [90, 15], 2), [])

    def test_rules_that_cannot_be_read(self) -> None:
        deep: dict = {"match": "all", "lines": []}
        for _ in range(12):
            deep = {"match": "all", "lines": [deep]}
        for data, words in (
            ([], "JSON object"),
            ({"version": 2}, "newer Loyal Bell"),
            ({"root": deep}, "nested more than"),
            (
                {
                    "root": {
                        "lines": [
                            {"about": "orders", "period": {"kind": "between days ago", "least": 9, "most": 3}}
                        ]
                    }
                },
                "Line 1: the period ends before it starts",
            ),
            ({"root": {"lines": [{"about": "orders"}, {"about": "pets"}]}}, "Line 2"),
            ({"root": {"lines": [{"about": "orders", "value": "many"}]}}, "Line 1: value"),
            ({"root": {"lines": [{"about": "orders"}] * 201}}, "at most 200"),
        ):
            with self.subTest(words), self.assertRaisesRegex(RuleProblem, words):
                read_rule(data)


class OnTheCommandLine(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        rows = cdnow.records()
        people = "\n".join(["Customer ID", *map(str, sorted(set(rows[:, 0].tolist())))])
        bring(self.application, "customers", people)
        orders = [
            f"{at},{who},{day_of_number(day)},{cents / 100:.2f}"
            for at, (who, day, cents) in enumerate(rows.tolist())
        ]
        bring(self.application, "orders", "\n".join(["Order ID,Customer ID,Date,Total", *orders]))
        self.application.close()

    def run_json(self, *words: str) -> dict:
        result = CliRunner().invoke(app, [*words, "--data", str(self.folder), "--json"])
        self.assertEqual(result.exit_code, 0, result.output)
        return json.loads(result.output)

    def test_rhythm_of_the_sample(self) -> None:
        as_of = ("--as-of", "1997-09-30")
        value = self.run_json("rhythm", "value", *as_of, "--unit", "weeks", "--ahead", "39")
        # Fader, Hardie and Lee 2005, Table 2
        for name, printed in (("r", 0.243), ("alpha", 4.414), ("a", 0.793), ("b", 2.426)):
            self.assertAlmostEqual(value["bgnbd"][name], printed, 2)
        self.assertEqual((value["buyers"], value["repeat_buyers"], len(value["people"])), (2357, 946, 2357))
        repeat = self.run_json("rhythm", "repeat", *as_of)
        self.assertEqual(repeat["first_to_second"]["returned"], 946)
        cohorts = self.run_json("rhythm", "cohorts", *as_of)["cohorts"]
        self.assertEqual(sum(one["size"] for one in cohorts), 2357)
        self.assertEqual(
            sum(one["people"] for one in self.run_json("rhythm", "bands", *as_of)["bands"]), 2357
        )
        self.assertEqual(sum(map(sum, self.run_json("rhythm", "grid", *as_of)["count"])), 2357)
        top = self.run_json("rhythm", "concentration", *as_of, "--top", "20")["top"]
        self.assertEqual(next(one["people"] for one in top if one["share"] == 0.2), 472)
        rule_file = self.folder / "rule.json"
        rule_file.write_text(rule(m.OrdersCondition(comparison="exactly")).model_dump_json())
        count = self.run_json("segment", "count", str(rule_file), *as_of, "--ladder")
        self.assertEqual((count["people"], count["ladder"]), (self.once(), [2357, self.once()]))

    def once(self) -> int:
        """Customers with one row until 30 September 1997, counted apart."""
        counts: dict[int, int] = {}
        for who, day, _ in cdnow.records().tolist():
            if day <= day_number(date(1997, 9, 30)):
                counts[who] = counts.get(who, 0) + 1
        return sum(count == 1 for count in counts.values())

    def test_mistakes_are_said(self) -> None:
        for words, said in (
            (("rhythm", "repeat", "--as-of", "soon"), "is not an instant"),
            (("rhythm", "bands", "--department", "Moon"), "no department “Moon”"),
            (("rhythm", "value", "--unit", "years"), "is not a unit"),
            (("rhythm", "value", "--as-of", "1996-01-01"), "too few"),
            (("segment", "count", str(self.folder / "none.json")), "cannot be read"),
        ):
            result = CliRunner().invoke(app, [*words, "--data", str(self.folder)])
            self.assertEqual((result.exit_code, said in result.output), (1, True), result.output)
