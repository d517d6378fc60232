"""The pages of results over the demo that has lived, whose planted truths are known
(``loyalbell/demo/lived.py``).
"""

import csv
import html
import io
import json
import re
import shutil
import tempfile
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from xml.etree import ElementTree
from zoneinfo import ZoneInfo

import numpy as np
from openpyxl import load_workbook
from sqlalchemy import select
from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.core.clock.zones import DAY
from loyalbell.core.results.attribution import Reason
from loyalbell.core.results.experiment import TestVerdict
from loyalbell.core.results.verdict import Verdict
from loyalbell.core.segments.model import read_rule
from loyalbell.core.sequences.plan import every_step
from loyalbell.demo import clock_routes
from loyalbell.demo.build import OWNER
from loyalbell.demo.lived import BROUGHT_BACK, rows_of
from loyalbell.demo.sequences import RINGING
from loyalbell.post_room import routes as post_room_routes
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.campaigns.audience import audience, plan_of
from loyalbell.services.integrations import api_tokens
from loyalbell.services.results import openings
from loyalbell.services.results.breakdown.by_kind import WEEKDAYS, breakdown
from loyalbell.services.results.breakdown.lift_by import by_month, by_segment
from loyalbell.services.results.breakdown.offers_used import offers_of
from loyalbell.services.results.credits import credits_of
from loyalbell.services.results.detail import detail
from loyalbell.services.results.experiments import experiments
from loyalbell.services.results.links import links_of
from loyalbell.services.results.of_orders import credited_orders
from loyalbell.services.results.overview import Overview, ResultRow, compared_of, overview
from loyalbell.services.results.ranges import RANGES, days_of
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage.schema import Campaign, Redemption, Segment, Sequence, SequenceVersion
from loyalbell.web.app import create_app
from loyalbell.web.request import DemoParts
from tests.support import demo_book
from tests.web.test_pages import PagesCase

YEAR = "year"
PLANTED_ORDERS = len(rows_of("orders"))
"""They were put in last, after those that customers placed by themselves."""


class LivedCase(PagesCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        cls.application = demo_book(cls.folder, lived=True)
        cls.room = PostRoomStore(cls.folder)
        parts = DemoParts(OWNER[1:], (clock_routes.router, post_room_routes.router))
        cls.app = create_app(cls.application, None, parts)
        cls.app.state.post_room = cls.room

    @classmethod
    def tearDownClass(cls) -> None:
        cls.room.close()
        cls.application.close()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def table(self, key: str = YEAR) -> Overview:
        today = self.application.clock.now().date()
        return overview(self.application, days_of(key, today, self.application.the_shop().zone))

    def row(self, name: str) -> ResultRow:
        return next(row for row in self.table().rows if row.name == name)


class LivedDemoTest(LivedCase):
    def test_what_the_win_back_added_is_found_with_its_true_size(self) -> None:
        """The truth: those who would not have come, and came by an order that was planted."""
        row = self.row("Win them back")
        self.assertIs(row.judged.verdict, Verdict.ADDED)
        compared = compared_of(self.application, row, self.table().days)
        orders = self.application.snapshot().orders
        planted = orders.key > np.max(orders.key) - PLANTED_ORDERS
        caused = 0
        for person, at, is_held in zip(
            compared.who.person, compared.who.at, compared.who.is_held, strict=True
        ):
            mine = (orders.person == person) & (orders.at > at) & (orders.at <= at + 30 * DAY)
            caused += not is_held and bool(mine.any()) and bool(planted[mine].all())
        treated = int((~compared.who.is_held).sum())
        interval = row.judged.interval
        assert interval is not None
        self.assertGreater(caused, 50)
        self.assertLessEqual(interval.low, caused / treated)
        self.assertGreaterEqual(interval.high, caused / treated)

    def test_what_does_nothing_is_never_said_to_add(self) -> None:
        names = {"vip": "Our best customers", "companion": "A companion’s birthday"}
        for template, name in names.items():
            with self.subTest(name=name):
                self.assertEqual(BROUGHT_BACK[template], 0.0)
                self.assertIn(template, RINGING)
                self.assertNotIn(self.row(name).judged.verdict, (Verdict.ADDED, Verdict.COST))
        for row in self.table().rows:
            if row.origin[0] == "campaign":
                self.assertNotIn(row.judged.verdict, (Verdict.ADDED, Verdict.COST), row.name)

    def test_the_better_message_won_and_the_equal_one_did_not(self) -> None:
        found = {one.name: one for one in experiments(self.application)}
        better = found["Presents for paws"]
        self.assertIs(better.standing.verdict, TestVerdict.WON)
        self.assertEqual(better.leader.name, "We kept your spot")
        self.assertIs(found["Warm coats, November"].standing.verdict, TestVerdict.TOO_EARLY)
        self.assertIs(found["Win them back"].standing.verdict, TestVerdict.TOO_EARLY)
        self.assertFalse(any(one.standing.is_split_wrong for one in found.values()))

    def test_no_order_is_counted_twice_and_sums_stay_below_the_sales(self) -> None:
        table, credits = self.table(), credits_of(self.application)
        self.assertEqual(len(set(credits.order.tolist())), len(credits.order))
        put_down = (credits.at >= table.days.low) & (credits.at <= table.days.high + 5 * DAY)
        self.assertLessEqual(sum(row.orders for row in table.rows), int(put_down.sum()))
        orders, now = self.application.snapshot().orders, int(self.application.clock.now().timestamp())
        rows = orders.span(table.days.low, min(table.days.high + 5 * DAY, now))
        sales = int(orders.net_money(rows, now)[orders.void_at[rows] > now].sum())
        self.assertLess(sum(row.revenue for row in table.rows), sales)
        self.assertEqual(table.totals.orders, sum(row.orders for row in table.rows))

    def test_what_is_worth_doing_next_leans_on_what_was_measured(self) -> None:
        found = openings.next_steps(self.application, wait=True)
        assert found is not None
        first = found.openings[0]
        self.assertEqual(first.like, "Win them back")
        interval = self.row("Win them back").judged.interval
        assert interval is not None and first.added is not None
        self.assertEqual(first.added[0], round(interval.low * first.people))
        self.assertTrue(0 < first.baseline < 1)
        self.assertEqual(
            [one.money for one in found.openings],
            sorted((one.money for one in found.openings), reverse=True),
        )
        self.assertTrue(any("Late regulars" in one.words for one in found.not_worth))
        self.assertFalse(any("Appointment reminder" in one.words for one in found.not_worth))

    def test_every_range_and_order_opens(self) -> None:
        self.sign_in()
        for key in RANGES:
            for by in ("name", "added", "revenue"):
                page = self.client.get(f"/results?days={key}&by={by}")
                self.assertEqual(page.status_code, 200, key)
        page = self.client.get("/results?days=own&first=2026-01-01&last=2026-01-31").text
        self.assertIn("A quiet January", page)
        self.assertNotIn("Presents for paws", page)

    def test_wrong_dates_are_said_and_the_usual_days_shown(self) -> None:
        self.sign_in()
        for query, words in (
            ("first=2026-02-01&last=2026-01-01", "The first day lies after the last one."),
            ("first=soon", "Write the dates as year-month-day"),
            ("first=0001-01-01&last=9999-12-31", "Choose days between 1990 and 2200."),
        ):
            page = self.client.get(f"/results?days=own&{query}")
            self.assertEqual(page.status_code, 422, query)
            self.assertIn(words, page.text)
            self.assertIn("Win them back", page.text)

    def test_a_row_shows_its_picture_and_a_sequence_its_steps(self) -> None:
        self.sign_in()
        number = self.row("Win them back").origin[1]
        page = self.client.get(f"/results?days=year&show=sequence-{number}").text
        self.assertIn("more of every 1,000 came back.", page)
        self.assertIn("certain enough since week", " ".join(page.split()))
        page = self.client.get(f"/results/sequence/{number}?days=year").text
        for words in ("Step by step", "We have not seen you", "Test: after 38 days or after 48 days"):
            self.assertIn(words, page)
        self.assertEqual(self.client.get("/results/sequence/999").status_code, 404)

    def test_parts_come_to_the_whole(self) -> None:
        row, days = self.row("Win them back"), self.table().days
        parts = breakdown(self.application, row.origin, days)
        self.assertEqual(set(parts), {"Channel", "Weekday", "Hour"})
        totals = {name: sum(part.delivered for part in some) for name, some in parts.items()}
        self.assertEqual(len(set(totals.values())), 1, totals)
        self.assertEqual(sum(part.orders for part in parts["Hour"]), row.orders)
        self.assertEqual([part.name for part in parts["Weekday"]], list(WEEKDAYS))
        self.sign_in()
        page = self.client.get(f"/results/sequence/{row.origin[1]}?days=year").text
        self.assertIn("By channel and time of sending", page)
        self.assertIn("healthy", self.client.get("/results/domains?days=year").text)

    def test_months_and_segments_are_told_apart_by_what_was_known_before(self) -> None:
        """A plain loop beside the columns: each person by the month's first instant before they qualified."""
        row, days = self.row("Win them back"), self.table().days
        who = compared_of(self.application, row, days).who
        zone, snapshot = ZoneInfo(days.zone), self.application.snapshot()
        months = [datetime.fromtimestamp(at, UTC).astimezone(zone) for at in who.at.tolist()]
        counted = Counter(f"{at:%B %Y}" for at, held in zip(months, who.is_held, strict=True) if not held)
        parts = by_month(self.application, row, days)
        self.assertGreater(len(parts), 6)
        for part in parts:
            self.assertEqual(part.treated, counted[part.name], part.name)
        whole = row.judged.interval
        for part in parts:
            if part.judged.interval is not None and whole is not None:
                self.assertGreater(part.judged.interval.width, whole.width)
        rule = read_rule({"version": 1, "root": {"match": "all", "lines": [{"about": "orders", "value": 4}]}})
        segment_commands.keep(self.application, None, "Bought four times", rule, "Ida")
        found = {part.name: part for part in by_segment(self.application, row, days)}["Bought four times"]
        orders = snapshot.orders
        treated = 0
        for person, at, held in zip(who.person.tolist(), months, who.is_held.tolist(), strict=True):
            began = at.replace(day=1, hour=0, minute=0, second=0).timestamp()
            stood = (orders.person == person) & (orders.at <= began) & (orders.void_at > began)
            treated += not held and int(stood.sum()) >= 4
        self.assertEqual(found.treated, treated)

    def test_links_and_offers_of_the_lived_demo(self) -> None:
        row, days = self.row("Win them back"), self.table().days
        step = detail(self.application, row, days).steps[0].step
        found = links_of(self.application, row.origin, days, step)
        assert found is not None
        self.assertGreater(found.pressed, 20)
        self.assertEqual(found.pressed, max(link.people for link in found.links))
        offers = offers_of(self.application, row.origin, days)
        self.assertEqual([offer.name for offer in offers], ["Birthday treat"])
        self.assertTrue(0 < offers[0].used < offers[0].given)
        self.assertTrue(0 < offers[0].cost <= row.cost)
        credited = credits_of(self.application)
        by_code = set(credited.order[credited.reason == Reason.CODE].tolist())
        with self.application.database.reading() as session:
            used = set(session.scalars(select(Redemption.order_id)))
        orders, now = self.application.snapshot().orders, int(self.application.clock.now().timestamp())
        standing = set(orders.key[(orders.at <= now) & (orders.void_at > now)].tolist())
        self.assertEqual(by_code, used & standing, "a code that was used always counts for its message")
        self.sign_in()
        for path in (f"/results/sequence/{row.origin[1]}/links?step={step}", "/results/campaign/5/links"):
            page = self.client.get(f"{path}&days=year" if "?" in path else f"{path}?days=year")
            self.assertIn("clicked a link", page.text)
        self.assertEqual(self.client.get("/results/campaign/999/links").status_code, 404)
        page = self.client.get("/results/5").text
        for words in ("what it added, week by week", "What was ordered", "Links"):
            self.assertIn(words, page)

    def test_people_behind_a_figure_become_a_segment(self) -> None:
        self.sign_in()
        row = self.row("Win them back")
        address = f"/results/sequence/{row.origin[1]}?days=year"
        page = self.client.get(f"{address}&figure=held back").text
        counted = re.search(r"Make a segment of these ([\d,]+) people", page)
        assert counted is not None
        token = self.token(page)
        form = {"_csrf": token, "figure": "held back", "step": ""}
        made = self.client.post(f"/results/sequence/{row.origin[1]}/segment?days=year", data=form)
        self.assertEqual(made.status_code, 200)
        with self.application.database.reading() as session:
            kept = session.query(Segment).filter(Segment.name == "Win them back: held back").one()
        ids = kept.rule["root"]["lines"][0]["ids"]
        self.assertEqual(len(ids), int(counted[1].replace(",", "")))

    def test_the_file_says_what_the_table_says(self) -> None:
        self.sign_in()
        text = self.client.get("/results.csv?days=year&by=name").text
        rows = {row["name"]: row for row in csv.DictReader(io.StringIO(text))}
        for row in self.table().rows:
            mine = rows[row.name]
            self.assertEqual(int(mine["delivered_people"]), row.delivered)
            self.assertEqual(int(mine["revenue_minor"]), row.revenue)
            self.assertEqual(mine["verdict"], row.judged.verdict.value)

    def test_sheet_picture_command_and_interface_say_the_same(self) -> None:
        self.sign_in()
        sheet = load_workbook(io.BytesIO(self.client.get("/results.xlsx?days=year").content)).active
        assert sheet is not None
        names = [cell.value for cell in sheet[1]]
        by_name = {row[names.index("name")]: row for row in sheet.iter_rows(min_row=2, values_only=True)}
        row = self.row("Win them back")
        self.assertEqual(by_name[row.name][names.index("orders")], row.orders)
        picture = self.client.get(f"/results/sequence/{row.origin[1]}.svg?days=year")
        ElementTree.fromstring(picture.text)
        self.assertIn("certain enough since", " ".join(picture.text.split()))
        self.assertEqual(self.client.get("/results/sequence/4.svg").status_code, 404)
        told = CliRunner().invoke(app, ["results", "--data", str(self.folder), "--days", "year", "--json"])
        self.assertEqual(told.exit_code, 0, told.output)
        from_command = {one["name"]: one for one in json.loads(told.stdout)["results"]}
        token = api_tokens.make_token(self.application, "Till", ["read"], "Ida")
        head = {"Authorization": f"Bearer {token}"}
        answer = self.client.get("/api/v1/results?days=year", headers=head)
        self.assertEqual(answer.status_code, 200, answer.text)
        from_interface = {one["name"]: one for one in answer.json()["results"]}
        self.assertEqual(from_command, from_interface)
        self.assertEqual(from_command[row.name]["held_back_people"], row.held)
        wrong = self.client.get("/api/v1/results?days=soon", headers=head)
        self.assertEqual(wrong.status_code, 422)
        wrong_command = CliRunner().invoke(app, ["results", "--data", str(self.folder), "--days", "soon"])
        self.assertEqual(wrong_command.exit_code, 1)

    def test_a_suggestion_becomes_a_draft_that_holds_some_back(self) -> None:
        token = self.sign_in()
        made = self.client.post("/results/openings/quiet", data={"_csrf": token})
        self.assertEqual(made.status_code, 200)
        with self.application.database.reading() as session:
            campaign = session.query(Campaign).filter(Campaign.state == "draft").one()
        self.assertEqual(plan_of(campaign).held_back, 20)
        self.assertGreater(len(audience(self.application, campaign).reached), 20)
        self.assertIn("are held back. You will", " ".join(made.text.split()))
        again = self.client.post("/results/openings/quiet", data={"_csrf": token})
        self.assertEqual(again.status_code, 200, "a second draft gets a name of its own")
        self.assertNotEqual(
            self.client.post("/results/openings/nothing", data={"_csrf": token}).status_code, 500
        )

    def test_one_press_makes_an_arm_the_only_one_in_the_draft(self) -> None:
        token = self.sign_in()
        row, address = self.row("Win them back"), "/results/sequence/{}/keep/{}/{}"
        test = next(one for one in experiments(self.application) if one.origin == row.origin)
        number = row.origin[1]
        wrong = self.client.post(address.format(number, test.step, 7), data={"_csrf": token})
        self.assertIn("no longer holds that test", wrong.text)
        page = self.client.post(address.format(number, test.step, 1), data={"_csrf": token})
        self.assertEqual(page.status_code, 200)
        with self.application.database.reading() as session:
            sequence = session.get_one(Sequence, number)
            draft, live = draft_of(sequence), session.get_one(SequenceVersion, sequence.live_version_id).plan
        self.assertNotIn(test.step, [one.id for one in every_step(draft.steps)])
        self.assertEqual(draft.steps[0].id, live["steps"][0]["arms"][1]["steps"][0]["id"])
        self.assertEqual(live["steps"][0]["id"], test.step, "what is live stays until it is published")
        again = self.client.post(address.format(number, test.step, 1), data={"_csrf": token})
        self.assertIn("no longer holds that test", again.text)

    def test_tests_are_listed_with_what_was_learned(self) -> None:
        self.sign_in()
        page = self.client.get("/results/tests").text
        self.assertIn("“We kept your spot” is better:", page)
        self.assertIn("Too close to tell", page)

    def test_today_asks_again_until_the_suggestions_are_there(self) -> None:
        self.sign_in()
        first = self.client.get("/").text
        self.assertIn('id="worth-doing"', first)
        openings.next_steps(self.application, wait=True)
        piece = self.client.get("/worth-doing").text
        self.assertIn("customers have gone quiet", piece)
        self.assertNotIn("hx-get", piece, "it asks no more")

    def test_an_order_says_which_message_it_followed_and_why(self) -> None:
        self.sign_in()
        credits = credits_of(self.application)
        row = int(np.flatnonzero(credits.reason == Reason.CLICK)[-1])
        person = int(self.application.snapshot().people.ids[credits.person[row]])
        said = credited_orders(self.application, person)
        self.assertIn("a link in it was the last one clicked before", said[int(credits.order[row])])
        page = self.client.get(f"/customers/{person}?kind=order&shown=1000").text
        self.assertIn("Followed", page)
        self.assertIn(html.escape(said[int(credits.order[row])]), page)
        self.assertEqual(credited_orders(self.application, 10**9), {})
        everyone = credits.delivery[credits.person == credits.person[row]]
        self.assertEqual(len(said), len(everyone), "one person's orders as those of the whole book")
