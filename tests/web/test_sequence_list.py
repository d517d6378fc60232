"""The list of sequences, its figures and order; copies and templates; what publishing says of a backlog."""

import json

from bs4 import BeautifulSoup

from loyalbell.core.clock.pacing import Pace
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.sequences.plan import every_step, read_plan
from loyalbell.services.rehearsal.backlog import forecast_backlog
from loyalbell.services.results.of_sequences import last_days
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.storage import schema
from loyalbell.storage.schema import DeliveryEvent
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait
from tests.web.test_sequence_pages import SequencePagesCase


class LastDaysTest(SequenceCase):
    """Counted by hand from what was sent and ordered."""

    def test_sent_by_day_and_people_brought_back(self) -> None:
        people = [self.add_person(f"p{at}@example.com") for at in range(3)]
        made = self.ring({"start": AFTER_AN_ORDER, "steps": [wait("w", 1), self.message("m")]})
        for person in people:
            self.add_order(person, 0)
        self.walk(2 * DAY)
        sent = self.deliveries("sent")
        self.assertEqual(len(sent), 3)
        # two click and order, one of them twice; the third orders without a click
        for delivery, orders in zip(sent, (1, 2, 0), strict=True):
            if orders:
                with self.application.database.transaction() as session:
                    session.add(DeliveryEvent(delivery_id=delivery.id, kind="clicked", at=self.clock.now()))
            self.clock.move_on(HOUR)
            for _ in range(orders or 1):
                self.add_order(delivery.person_id, 0)
        found = last_days(self.application)[made]
        self.assertEqual((found.sent, found.brought_back), (3, 2))
        zone = zone_of("America/New_York")
        ago = zone.day(int(self.clock.now().timestamp())) - zone.day(int(sent[0].sent_at.timestamp()))  # type: ignore[union-attr]
        self.assertEqual([at for at, count in enumerate(found.by_day) if count], [29 - ago])

    def test_what_is_older_than_thirty_days_is_not_counted(self) -> None:
        person = self.add_person()
        made = self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        self.add_order(person, 0)
        self.walk(HOUR)
        self.assertEqual(last_days(self.application)[made].sent, 1)
        self.clock.move_on(31 * DAY)
        self.assertEqual(last_days(self.application), {})


class BacklogTest(SequenceCase):
    def plan(self, *steps: object) -> dict[str, object]:
        lapsed = {"about": "orders", "measure": "last", "comparison": "at least", "value": 60}
        rule = {"root": {"match": "all", "lines": [lapsed]}}
        return {"start": {"on": "segment", "way": "joins", "rule": rule}, "steps": list(steps)}

    def test_pacing_in_does_not_help_where_a_later_step_lets_all_go_at_one_time(self) -> None:
        """Common practice, no source: people let in over hours meet again at a step with an exact time."""
        for at in range(40):
            self.add_order(self.add_person(f"p{at}@example.com"), 90)
        steps = (
            self.message("a"),
            wait("w", 2),
            self.message("b", release={"kind": "exact", "begins": "15:00"}),
        )
        made = sequence_commands.keep(self.application, None, "Backlog", read_plan(self.plan(*steps)), "Ida")
        pace = Pace(10, 3_600, SendWindow(kind="window", begins="09:00", ends="17:00"))
        with self.application.database.reading() as session:
            plan = read_plan(session.get_one(schema.Sequence, made).draft)
        found = forecast_backlog(self.application, plan, made, pace)
        self.assertEqual((found.people, found.messages), (40, 80))
        # from 9:40 on 12 May four batches an hour apart; two days later all at 15:00
        zone = zone_of("America/New_York")
        today = zone.day(int(self.clock.now().timestamp()))
        self.assertEqual(dict(found.days), {today: 40, today + 2: 40})

    def test_who_has_not_agreed_would_not_get_it(self) -> None:
        for at in range(10):
            person = self.add_person(f"p{at}@example.com", consent="refused" if at < 4 else "agreed")
            self.add_order(person, 90)
        made = sequence_commands.keep(
            self.application, None, "Backlog", read_plan(self.plan(self.message("a"))), "Ida"
        )
        with self.application.database.reading() as session:
            plan = read_plan(session.get_one(schema.Sequence, made).draft)
        found = forecast_backlog(self.application, plan, made, None)
        self.assertEqual((found.people, found.messages, found.refused), (10, 6, 4))


class SequenceListPages(SequencePagesCase):
    def order(self) -> list[str]:
        return [one.name for one, _ in sequence_queries.in_order(self.application)]

    def test_the_list_shows_what_each_sent_and_brought_back(self) -> None:
        page = BeautifulSoup(self.client.get("/sequences").text, "html.parser")
        figures = last_days(self.application)
        rows = page.select(".sequence-list tbody tr")
        self.assertTrue(rows)
        for row in rows:
            found = figures.get(int(str(row["data-sequence"])))
            cells = [" ".join(cell.text.split()) for cell in row.select("td")]
            if found is not None:
                self.assertEqual((cells[3], cells[5]), (f"{found.sent:,}", f"{found.brought_back:,}"))

    def test_a_whole_new_order_is_kept_and_nonsense_does_no_harm(self) -> None:
        ids = [one.id for one, _ in sequence_queries.in_order(self.application)]
        names = self.order()
        turned = [*reversed(ids)]
        self.client.post(
            "/sequences/order", data={"_csrf": self.csrf, "sequence": [str(one) for one in turned]}
        )
        self.assertEqual(self.order(), [*reversed(names)])
        self.client.post("/sequences/order", data={"_csrf": self.csrf, "sequence": [str(ids[0]), "x", "²"]})
        self.assertEqual(self.order()[0], names[0])
        self.assertEqual(sorted(self.order()), sorted(names))

    def test_a_template_of_ones_own_starts_a_copy(self) -> None:
        made = self.draft("thanks")
        self.assertFalse("Your own templates" in self.client.get("/sequences/new").text)
        self.post(f"/sequences/{made}/template", is_template="yes")
        self.assertTrue("Your own templates" in self.client.get("/sequences/new").text)
        copied = self.post("/sequences/new", start=f"own:{made}")
        number = int(str(copied.url).rsplit("/", 1)[1])
        self.assertNotEqual(number, made)
        self.assertEqual(self.plan(number), self.plan(made))
        self.post(f"/sequences/{made}/template", is_template="no")
        self.assertEqual(self.post("/sequences/new", start=f"own:{made}").status_code, 404)

    def test_a_step_is_copied_with_an_identity_of_its_own(self) -> None:
        plan = json.loads(self.plan(self.draft("second")).model_dump_json(by_alias=True))
        fork = plan["steps"][0]
        made = read_plan(self.act(plan, f"copy|{fork['id']}"))
        ids = [one.id for one in every_step(made.steps)]
        self.assertEqual(len(made.steps), 2)
        self.assertEqual(len(ids), len(set(ids)))
        self.assertEqual(
            [one.do for one in every_step(made.steps[:1])], [one.do for one in every_step(made.steps[1:])]
        )

    def test_an_arm_is_copied_and_shares_still_come_to_a_hundred(self) -> None:
        plan = json.loads(self.plan(self.draft("win-back")).model_dump_json(by_alias=True))
        made = read_plan(self.act(plan, f"arm-copy|{plan['steps'][0]['id']}|0"))
        split = made.steps[0]
        self.assertEqual([arm.share for arm in split.arms], [25, 25, 50])  # type: ignore[union-attr]
        self.assertEqual(len(split.arms[0].steps), len(split.arms[1].steps))  # type: ignore[union-attr]

    def test_an_arm_that_asks_of_a_message_copied_with_it_asks_of_the_copy(self) -> None:
        plan = json.loads(self.plan(self.draft("win-back")).model_dump_json(by_alias=True))
        arm = plan["steps"][0]["arms"][0]
        fork, message = arm["steps"][-1], arm["steps"][-3]
        fork["arms"][0]["step"] = message["id"]
        made = read_plan(self.act(plan, f"arm-copy|{plan['steps'][0]['id']}|0"))
        copied = made.steps[0].arms[1].steps  # type: ignore[union-attr]
        self.assertEqual(copied[-1].arms[0].step, copied[-3].id)
        self.assertNotEqual(copied[-3].id, message["id"])

    def test_publishing_names_the_people_that_are_added(self) -> None:
        made = self.draft("late-regulars")
        page = self.client.get(f"/sequences/{made}/publish").text
        found = BeautifulSoup(page, "html.parser").select_one("input[name=people]")
        assert found is not None
        people = int(str(found["value"]))
        pace = {"how": "paced", "people": str(people), "sequence": str(made), "batch": "5", "every": "30"}
        hours = {"begins": "09:00", "ends": "17:00", "weekdays": ["0", "1", "2", "3", "4"]}
        added = self.post("/sequences/pace", **pace, **hours, backlog="yes").text
        self.assertTrue(f"Publish and add {people:,} people" in " ".join(added.split()))
        left = self.post("/sequences/pace", **pace, **hours, backlog="no").text
        self.assertTrue("Publish for people who qualify from now on" in " ".join(left.split()))
        later = self.post(
            "/sequences/pace", **pace, **hours, backlog="yes", when="later", day="2026-06-03", clock="10:00"
        ).text
        said = BeautifulSoup(later, "html.parser").text
        self.assertTrue("on Wed 3 Jun, 10:00" in " ".join(said.split()))
        wrong = self.post("/sequences/pace", **(pace | {"every": "x"}), **(hours | {"begins": "99:99"}))
        self.assertEqual(wrong.status_code, 200)
        self.assertTrue("wrong" in wrong.text)

    def test_the_live_page_shows_clicks_and_orders_of_each_message(self) -> None:
        for one, _ in sequence_queries.in_order(self.application):
            if one.state == "live":
                page = self.client.get(f"/sequences/{one.id}/live")
                self.assertEqual(page.status_code, 200)
                self.assertTrue("Orders that followed" in page.text)
