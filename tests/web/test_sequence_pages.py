"""Sequences over HTTP: occasions, the editor's acts, the rail, publishing, the live view, held
batches, care.
"""

import json
import re
from datetime import timedelta
from typing import Any
from unittest.mock import patch

from sqlalchemy import func, select, update

from loyalbell.core.sequences.check import must_fix
from loyalbell.core.sequences.plan import Plan, PlanProblem, every_step, read_plan
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import sequence_templates
from loyalbell.services.sequences.set_aside import SequenceBroken, set_aside
from loyalbell.services.settings.channels import CareSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, Enrolment, HeldBatch, Membership, Person, SequenceVersion
from loyalbell.web.sequences import left_out_routes
from tests.support import NOW, wait_for
from tests.web.test_message_pages import SignedInPages

LATER = timedelta(days=3)


class SequencePagesCase(SignedInPages):
    """Helpers for pages of sequences."""

    def plan_in(self, page: str) -> dict[str, Any]:
        found = re.search(r'name="plan" value="([^"]*)"', page)
        assert found, page[:2000]
        return json.loads(
            found[1]
            .replace("&#34;", '"')
            .replace("&#39;", "'")
            .replace("&gt;", ">")
            .replace("&lt;", "<")
            .replace("&amp;", "&")
        )

    def draft(self, key: str) -> int:
        made = sequence_templates.make(self.application, key, "Ida")
        assert made is not None
        return made

    def plan(self, sequence_id: int) -> Plan:
        with self.application.database.reading() as session:
            return sequence_drafts.draft_of(session.get_one(schema.Sequence, sequence_id))

    def act(self, plan: dict[str, Any], act: str = "", **fields: str) -> dict[str, Any]:
        return self.plan_in(self.post("/sequences/draw", plan=json.dumps(plan), act=act, **fields).text)


class SequencePages(SequencePagesCase):
    def test_every_occasion_opens_as_a_finished_draft(self) -> None:
        for one in sequence_templates.OCCASIONS:
            made = self.post("/sequences/new", start=one.key)
            self.assertEqual(made.status_code, 200, one.key)
            if one.key != "blank":
                sequence = int(str(made.url).rsplit("/", 1)[1])
                self.assertFalse(
                    must_fix(sequence_drafts.mistakes(self.application, self.plan(sequence), sequence)),
                    one.key,
                )
        self.assertEqual(self.post("/sequences/new", start="nothing").status_code, 404)
        self.assertEqual(self.client.get("/sequences").status_code, 200)

    def test_the_editor_adds_moves_shifts_and_takes_away(self) -> None:
        plan = self.act({"version": 1, "steps": []}, "add|message|first")
        plan = self.act(plan, f"add|wait|after:{plan['steps'][0]['id']}")
        plan = self.act(plan, "add|fork|last")
        fork = plan["steps"][2]["id"]
        plan = self.act(plan, f"add|message|in:{fork}:0")
        plan = self.act(plan, f"arm-add|{fork}")
        self.assertEqual([step["do"] for step in plan["steps"]], ["message", "wait", "fork"])
        self.assertEqual(len(plan["steps"][2]["arms"]), 2)
        wait = plan["steps"][1]["id"]
        plan = self.act(plan, f"shift|{wait}|4")
        self.assertEqual(plan["steps"][1]["span"], {"amount": 7, "unit": "days"})
        plan = self.act(plan, f"up|{wait}")
        plan = self.act(plan, f"shift|{plan['steps'][1]['id']}|-2")
        self.assertEqual((plan["steps"][0]["id"], plan["steps"][0]["span"]["amount"]), (wait, 5))
        plan = self.act(plan, f"remove|{fork}")
        self.assertEqual(len(plan["steps"]), 2)
        self.assertIn(
            "no longer there", self.post("/sequences/draw", plan=json.dumps(plan), act=f"remove|{fork}").text
        )

    def test_choosers_change_what_they_say(self) -> None:
        plan = self.act({"version": 1, "steps": [{"do": "wait", "id": "w"}, {"do": "message", "id": "m"}]})
        plan = self.act(
            plan,
            **{
                "start.on": "lack",
                "start.what": "visit",
                "start.days": "75",
                "w.there": "1",
                "w.kind": "until time",
                "w.at": "07:55",
                "w.weekdays": "3",
                "w.what": "order",
            },
        )
        self.assertEqual((plan["start"]["days"], plan["start"]["happening"]["what"]), (75, "visit"))
        self.assertEqual((plan["steps"][0]["kind"], plan["steps"][0]["weekdays"]), ("until time", [3]))
        plan = self.act(
            plan,
            "stop-add|",
            held_back="15",
            **{
                "m.there": "1",
                "m.message": "3",
                "m.channels": "text email",
                "m.release": "window",
                "m.begins": "10:00",
                "m.ends": "12:00",
            },
        )
        self.assertEqual(plan["steps"][1]["channels"], ["text", "email"])
        self.assertEqual((plan["held_back"], len(plan["stops"])), (15, 1))
        said = self.post(
            "/sequences/draw",
            plan=json.dumps(plan),
            **{"m.there": "1", "m.release": "window", "m.begins": "12:00", "m.ends": "10:00"},
        ).text
        self.assertIn("ends before it begins", said)

    def rail(self, plan: str) -> str:
        """As the page asks for it: again and again, until it is there."""
        while (said := self.post("/sequences/rail", plan=plan)).status_code == 204:
            self.assertEqual(said.headers["HX-Trigger"], "rail-later")
        return said.text

    def test_the_rail_rehearses_and_says_what_is_wrong_with_a_rule(self) -> None:
        rail = self.rail(self.plan(self.draft("win-back")).model_dump_json())
        for words in (
            "people a day",
            "would have had a message",
            "who came in, back before any message",
            "Read some diaries",
        ):
            self.assertIn(words, rail)
        gone = {"version": 1, "root": {"lines": [{"about": "segment", "segment": 999}]}}
        broken = self.plan(self.draft("thanks")).model_dump(mode="json") | {"only": gone}
        self.assertIn("has been deleted", self.rail(json.dumps(broken)))

    def test_publishing_pausing_resuming_and_stopping(self) -> None:
        made = self.draft("thanks")
        page = self.client.get(f"/sequences/{made}/publish").text
        self.assertNotIn("It cannot start yet", page)
        live = self.post(f"/sequences/{made}/publish", when="now")
        self.assertIn("Everyone who qualified", live.text)
        self.assertIn("Paused since", self.post(f"/sequences/{made}/pause").text)
        self.assertNotIn(
            "Paused since", self.post(f"/sequences/{made}/resume", waiting="skip", crossed="in").text
        )
        brought = self.post(f"/sequences/{made}/bring", who="1").text
        self.assertIn("came in", brought)
        self.assertIn("Nobody on file", self.post(f"/sequences/{made}/bring", who="nobody@example.com").text)
        self.assertEqual(self.client.get(f"/sequences/{made}/people?state=under+way").status_code, 200)
        with self.application.database.reading() as session:
            way = session.scalars(select(Enrolment).where(Enrolment.state == "under way")).first()
        if way is not None:
            self.assertIn(
                "taken out",
                self.post(
                    f"/enrolments/{way.id}/move", to="out", back=f"/sequences/{made}/people?state=taken+out"
                ).text,
            )
        self.assertIn("stopped version", self.post(f"/sequences/{made}/stop").text)

    def test_one_that_was_set_aside_says_why_until_it_is_mended(self) -> None:
        """Its live version cannot be read, its draft can: pages open, and publishing the draft mends it."""
        made = self.draft("thanks")
        self.post(f"/sequences/{made}/publish", when="now")
        self.post(f"/sequences/{made}/bring", who="1")
        with self.application.database.transaction() as session:
            version = session.query(SequenceVersion).filter_by(sequence_id=made).one()
            version.plan = {"version": 1, "steps": "none"}
        set_aside(self.application, SequenceBroken(made, PlanProblem("The sequence: steps are no list.")))
        for path in ("", "/live", "/people", "/publish", "/proof", "/rehearsal"):
            self.assertEqual(self.client.get(f"/sequences/{made}{path}").status_code, 200, path)
        for path in (f"/sequences/{made}", f"/sequences/{made}/live"):
            self.assertIn("Set aside.", self.client.get(path).text)
        self.assertIn("set aside", self.client.get("/sequences").text)
        self.assertEqual(self.client.get("/customers/1").status_code, 200)
        self.assertIn("Set aside.", self.post(f"/sequences/{made}/resume", waiting="skip", crossed="in").text)
        published = self.post(f"/sequences/{made}/publish", when="now").text
        self.assertIn("Paused since", published, "whoever publishes is asked about the messages that waited")
        resumed = self.post(f"/sequences/{made}/resume", waiting="skip", crossed="in").text
        self.assertNotIn("Set aside", resumed)
        self.assertNotIn("set aside", self.client.get("/sequences").text)

    def test_a_draft_with_a_mistake_cannot_be_published_and_a_later_day_waits(self) -> None:
        empty = self.draft("blank")
        self.assertIn("It cannot start yet", self.client.get(f"/sequences/{empty}/publish").text)
        self.assertEqual(self.post(f"/sequences/{empty}/publish", when="now").status_code, 422)
        made = self.draft("review")
        for wrong, words in (
            ("", "the day on which it should start"),
            ("2020-01-01", "have passed"),
            ("soon", "Write the day as"),
        ):
            said = self.post(f"/sequences/{made}/publish", when="later", day=wrong, clock="09:00")
            self.assertEqual(said.status_code, 422, wrong)
            self.assertIn(words, said.text)
        day = (self.application.clock.now() + LATER).date().isoformat()
        self.post(f"/sequences/{made}/publish", when="later", day=day, clock="09:00")
        with self.application.database.reading() as session:
            kept = session.get_one(schema.Sequence, made)
        self.assertEqual((kept.state, kept.goes_live_at is not None), ("draft", True))

    def test_a_draft_that_somebody_else_changed_is_not_overwritten(self) -> None:
        made = self.draft("thanks")
        plan = self.plan(made).model_dump_json()
        said = self.post("/sequences", sequence_id=str(made), name="Mine", plan=plan, seen_at="1000").text
        self.assertIn("has changed this draft since you opened it", said)
        self.assertIn("Give the sequence a name", self.post("/sequences", name=" ", plan=plan).text)

    def test_what_random_requests_broke(self) -> None:
        """Seen: the calendar’s last day, a plan without steps and a share that is no number were 500s."""
        made = self.draft("thanks")
        for path in (
            f"/sequences/{made}/rehearsal?over=past&day=9999-12-31",
            "/rhythm/top?percent=NaN",
            "/rhythm/top?percent=1e999",
        ):
            self.assertEqual(self.client.get(path).status_code, 200, path)
        self.assertEqual(self.post("/sequences/draw", plan="{}").status_code, 200)

    def test_json_out_and_in_is_the_same_plan(self) -> None:
        made = self.draft("birthday")
        data = self.client.get(f"/sequences/{made}/plan.json").json()
        name = data.pop("name")
        self.assertEqual(read_plan(data), self.plan(made))
        again = self.client.post(
            "/sequences/bring-in",
            data={"_csrf": self.csrf},
            files={"file": ("a.json", json.dumps({"name": f"{name} again", **data}))},
        )
        self.assertIn("again", again.text)
        wrong = self.client.post(
            "/sequences/bring-in", data={"_csrf": self.csrf}, files={"file": ("a.json", "nonsense")}
        )
        self.assertIn("not JSON", wrong.text)
        ids = {step.id for step in every_step(self.plan(made).steps)}
        self.assertEqual(len(ids), len(list(every_step(self.plan(made).steps))))

    def test_a_proof_run_shows_each_way_and_sends_each_message_once(self) -> None:
        made = self.draft("win-back")
        page = self.client.get(f"/sequences/{made}/proof").text
        self.assertIn("Split at random", page)
        self.assertIn("came to the end", page)
        said = self.post(f"/sequences/{made}/proof", who="1 2 nobody@example.com", send="1", to="me").text
        self.assertIn("Nobody on file is called nobody@example.com", said)
        self.assertRegex(said, r"\d proofs are on the way")
        with self.application.database.reading() as session:
            self.assertEqual(
                list(session.scalars(select(Enrolment.id))), [], "nobody is in the sequence for it"
            )

    def test_a_held_batch_is_shown_and_decided(self) -> None:
        made = self.draft("thanks")
        self.post(f"/sequences/{made}/publish", when="now")
        now = self.application.clock.now()
        with self.application.database.transaction() as session:
            batch = HeldBatch(
                origin_kind="sequence", origin_id=made, day="2026-05-12", made_at=now, normal=4.0, most=54
            )
            session.add(batch)
            session.flush()
            step = next(one.id for one in self.plan(made).steps if one.do == "message")
            for person in range(1, 7):
                session.add(
                    Delivery(
                        origin_kind="sequence",
                        origin_id=made,
                        step=step,
                        occurrence="x",
                        person_id=person,
                        message_version_id=1,
                        channel="email",
                        token=f"held{person}",
                        state="held",
                        due_at=now,
                        held_batch_id=batch.id,
                    )
                )
            number = batch.id
        self.assertIn("6 messages of", self.client.get(f"/held/{number}").text)
        self.assertIn("waits for your approval", self.client.get("/held").text)
        self.post(f"/held/{number}", word="some", some="2")
        self.assertIn("4 messages of", self.client.get(f"/held/{number}").text)
        self.assertIn("dropped by", self.post(f"/held/{number}", word="drop").text)

    def test_many_customers_are_brought_in_a_few_at_a_time(self) -> None:
        made = self.draft("keep-in-touch")
        self.post(f"/sequences/{made}/publish", when="now")
        asked = self.client.post(
            "/customers/many", data={"_csrf": self.csrf, "act": "bring", "person": ["1", "2", "3"]}
        ).text
        self.assertIn("Add to a sequence: 3 people", asked)
        paced = {
            "how": "paced",
            "batch": "1",
            "every": "30",
            "begins": "09:00",
            "ends": "17:00",
            "weekdays": ["0", "1", "2", "3", "4"],
        }
        self.assertIn(
            "3 batches",
            self.client.post("/sequences/pace", data={"_csrf": self.csrf, "people": "3", **paced}).text,
        )
        form = {"_csrf": self.csrf, "person": ["1", "2", "3"], "count": "3", "sequence": str(made), **paced}
        self.assertIn("3 added", self.client.post("/customers/many/bring", data=form).text)
        with self.application.database.reading() as session:
            times = sorted(
                one.entered_at
                for one in session.scalars(select(Enrolment).where(Enrolment.sequence_id == made))
            )
        self.assertEqual(
            [later - times[0] for later in times], [timedelta(), timedelta(minutes=30), timedelta(hours=1)]
        )

    def test_sent_twice_a_page_adds_people_once(self) -> None:
        """A double click, where the sequence lets the same people in again."""
        made = self.draft("keep-in-touch")
        self.post(f"/sequences/{made}/publish", when="now")
        with self.application.database.transaction() as session:
            version = session.query(SequenceVersion).filter_by(sequence_id=made).one()
            version.plan = version.plan | {"again": {"kind": "each"}}
        many = {"person": ["1", "2", "3"], "count": "3", "sequence": str(made)}
        for page, address, form in (
            (self.post("/customers/many", act="bring", **many), "/customers/many/bring", many),
            (
                self.client.get(f"/sequences/{made}/live"),
                f"/sequences/{made}/bring",
                {"who": self.email_of(4)},
            ),
        ):
            once = re.search(r'name="once"\s+value="([0-9a-f]{16})"', page.text)
            assert once is not None
            said = [self.post(address, once=once[1], **form).text for _ in range(2)]
            self.assertNotIn("already added", said[0])
            self.assertIn("already added", said[1])
        with self.application.database.reading() as session:
            came = select(Enrolment.person_id).where(Enrolment.sequence_id == made)
            self.assertEqual(sorted(session.scalars(came)), [1, 2, 3, 4])
        self.post("/customers/many/bring", once="0123456789abcdef", **many)
        with self.application.database.reading() as session:
            self.assertEqual(len(session.scalars(came).all()), 7, "another page means it")

    def email_of(self, person: int) -> str:
        with self.application.database.reading() as session:
            return str(session.get_one(Person, person).email)

    def test_those_past_the_line_before_it_began_are_offered_again(self) -> None:
        made = self.draft("second")
        self.post(f"/sequences/{made}/publish", when="now", backlog="no")
        page = self.client.get(f"/sequences/{made}/live").text
        self.assertIn(f'href="/sequences/{made}/left-out"', page)
        offered = self.client.get(f"/sequences/{made}/left-out").text
        count = re.search(r'name="people"\s+value="(\d+)"', offered)[1]
        self.assertIn(f"Add {int(count):,} people", offered)
        form = {"how": "paced", "people": count, "sequence": str(made), "whom": "left out"}
        form |= {"batch": "500", "every": "15", "begins": "09:00", "ends": "17:00", "weekdays": "1"}
        self.assertIn("they get", self.post("/sequences/pace", **form).text)
        self.assertIn("has changed", self.post(f"/sequences/{made}/left-out", **form | {"people": "1"}).text)
        self.assertIn("is not one", self.post(f"/sequences/{made}/left-out", **form | {"begins": "x"}).text)
        # seen: “none” was taken for fifty, and everybody was added
        self.assertIn(
            "is no number", self.post(f"/sequences/{made}/left-out", **form | {"batch": "none"}).text
        )
        self.assertEqual(self.enrolled(made), 0)
        with self.application.database.transaction() as session:  # so that only the key keeps anybody out
            version = session.scalar(select(SequenceVersion).where(SequenceVersion.sequence_id == made))
            version.plan = version.plan | {"again": {"kind": "each"}}

        ids = left_out_routes.left_out(self.application, made, self.plan(made))
        self.assertNotIn("/left-out", self.post(f"/sequences/{made}/left-out", **form).text)
        self.assertEqual(self.enrolled(made), int(count))
        # twice at once: the second has read who is left out before the first had written
        self.application.clock.move_on(timedelta(seconds=1))
        with patch.object(left_out_routes, "left_out", lambda *_: ids):
            self.post(f"/sequences/{made}/left-out", **form)
        self.assertEqual(self.enrolled(made), int(count))
        self.assertIn("Everyone who is past", self.client.get(f"/sequences/{made}/left-out").text)
        self.post(f"/sequences/{made}/pause")
        self.assertIn(
            "It is not on now", " ".join(self.client.get(f"/sequences/{made}/left-out").text.split())
        )

    def enrolled(self, sequence: int) -> int:
        query = select(func.count()).where(Enrolment.sequence_id == sequence)
        with self.application.database.reading() as session:
            return session.scalar(query) or 0

    def test_a_rehearsal_whose_past_is_empty_opens_at_the_coming_weeks(self) -> None:
        made = self.draft("renewal")
        with self.application.database.transaction() as session:
            session.execute(update(Membership).values(renews_on=NOW.date() + timedelta(days=9)))
        page = self.client.get(f"/sequences/{made}/rehearsal").text
        wait_for(lambda: "Rehearsing" not in self.client.get(f"/sequences/{made}/rehearsal").text)
        page = self.client.get(f"/sequences/{made}/rehearsal").text
        self.assertIn("files tell only the next renewal", page)
        self.assertRegex(page, 'over=coming"\\s+aria-current="page"')
        past = self.client.get(f"/sequences/{made}/rehearsal?over=past").text
        self.assertIn("No message would have been sent", past)
        self.assertIn("In the coming 6 weeks", past)

    def test_the_calendar_hand_off_lists_and_empty_pages_are_there(self) -> None:
        for path, words in (
            ("/calendar", "Calendar"),
            ("/hand-off", "No list yet"),
            ("/held", "Held"),
        ):
            page = self.client.get(path)
            self.assertEqual((page.status_code, words in page.text), (200, True), path)

    def test_care_is_kept_and_wrong_values_are_said(self) -> None:
        self.post(
            "/settings/care",
            count0="1",
            days0="3",
            quiet_begins="20:00",
            quiet_ends="09:00",
            closed="2026-12-24 2026-12-25",
            silent="text",
            guard_factor="4",
        )
        kept = loaded(self.application, CareSettings)
        self.assertEqual(
            (kept.limits[0].days, kept.quiet_begins, len(kept.closed), kept.silent), (3, "20:00", 2, ["text"])
        )
        self.assertEqual(self.post("/settings/care", quiet_begins="25:00").status_code, 422)
        self.assertEqual(self.post("/settings/care", closed="tomorrow").status_code, 422)
