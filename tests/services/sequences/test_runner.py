"""Sequences ring: people come in as they cross, get each step once, and leave when a stop rule holds."""

from datetime import timedelta
from typing import Any
from unittest import mock

from sqlalchemy import select

from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import commands as commands_of_sequences
from loyalbell.services.sequences import manual_entry, pausing, publishing, publishing_preview, volume_guard
from loyalbell.services.sequences.commands import keep
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.today import queries as today_queries
from loyalbell.storage import schema
from loyalbell.storage.change_log import newest
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.schema import Delivery, Enrolment, HeldBatch, StaffNote
from loyalbell.storage.snapshot.loading import load_snapshot
from tests.storage.snapshot.test_follows import plain
from tests.support import ApplicationCase, FakeSender

HOUR, DAY = timedelta(hours=1), timedelta(days=1)


class SequenceCase(ApplicationCase):
    """A shop without quiet hours or limits, whose clock walks in steps and ticks at each."""

    def setUp(self) -> None:
        super().setUp()
        self.sender = FakeSender()
        self.care(limits=[], quiet_begins="", quiet_ends="")

    def care(self, **settings: Any) -> None:
        with self.application.database.transaction() as session:
            CareSettings.load(session).model_copy(update=settings).save(session)

    def ring(self, plan: dict[str, Any], name: str = "Ring", **choices: Any) -> int:
        made = keep(self.application, None, name, read_plan(plan), "Ida")
        publishing.publish(self.application, made, publishing.Choices(**choices), "Ida", normal=10)
        return made

    def tearDown(self) -> None:
        """The ledger that followed all that rang is the ledger loaded anew."""
        with self.application.database.reading() as session:
            anew = load_snapshot(session, newest(session))
        self.assertEqual(plain(self.application.snapshot())["enrolments"], plain(anew)["enrolments"])
        super().tearDown()

    def walk(self, how_long: timedelta, step: timedelta = HOUR) -> None:
        end = self.clock.now() + how_long
        tick(self.application, self.sender)
        while self.clock.now() < end:
            self.clock.move_on(step)
            tick(self.application, self.sender)

    def deliveries(self, state: str | None = None) -> list[Delivery]:
        with self.application.database.reading() as session:
            query = select(Delivery).where(Delivery.origin_kind == "sequence").order_by(Delivery.id)
            return [one for one in session.scalars(query) if state is None or one.state == state]

    def enrolments(self, state: str | None = None) -> list[Enrolment]:
        with self.application.database.reading() as session:
            query = select(Enrolment).order_by(Enrolment.id)
            return [one for one in session.scalars(query) if state is None or one.state == state]

    def message(self, step: str, **more: Any) -> dict[str, Any]:
        self.letters = getattr(self, "letters", 0) + 1
        return {"do": "message", "id": step, "message": self.letter(f"Letter {self.letters}"), **more}


def wait(step: str, amount: int, unit: str = "days") -> dict[str, Any]:
    return {"do": "wait", "id": step, "span": {"amount": amount, "unit": unit}}


AFTER_AN_ORDER = {"on": "event", "happening": {"what": "order"}}


class RingingTest(SequenceCase):
    def test_thanks_two_days_after_an_order_once(self) -> None:
        person = self.add_person()
        self.add_order(person, 3)
        self.ring({"start": AFTER_AN_ORDER, "steps": [wait("w", 2), self.message("m")]})
        self.walk(DAY)
        self.assertEqual(self.enrolments(), [], "an order from before it rang brings nobody in")
        self.add_order(person, 0)
        ordered = self.clock.now()
        self.walk(4 * DAY)
        sent = self.deliveries("sent")
        self.assertEqual([one.due_at - ordered for one in sent], [2 * DAY])
        self.assertEqual([one.state for one in self.enrolments()], ["finished"])
        self.add_order(person, 0)
        self.walk(3 * DAY)
        self.assertEqual(len(self.deliveries("sent")), 1, "never again, as the plan says")

    def test_who_is_tagged_while_it_is_published_comes_in(self) -> None:
        """Seen: seven people tagged in the minute of publishing were lost in between."""
        people = [self.add_person(f"p{at}@example.com") for at in range(4)]
        tag = self.tag("new")
        for person in people[:2]:
            self.put_tag(person, tag)
        start = {"on": "event", "happening": {"what": "tag", "tag": tag}}
        self.ring({"start": start, "steps": [self.message("m")]})
        for person in people[2:]:
            self.put_tag(person, tag)
        self.walk(HOUR)
        self.assertEqual({one.person_id for one in self.deliveries("sent")}, set(people))
        self.walk(DAY)
        self.assertEqual(len(self.deliveries()), 4, "and once")

    def tag(self, name: str) -> int:
        with self.application.database.transaction() as session:
            made = schema.Tag(name=name)
            session.add(made)
            session.flush()
            return made.id

    def put_tag(self, person: int, tag: int) -> None:
        with self.application.database.transaction() as session:
            PersonFacts(session, int(self.clock.now().timestamp())).add_tag([person], tag)

    def test_an_order_ends_it_even_after_its_message_was_planned(self) -> None:
        person = self.add_person()
        self.add_order(person, 0)
        plan = {
            "start": {"on": "event", "happening": {"what": "order"}},
            "again": {"kind": "each"},
            "stops": [{"what": "order"}],
            "steps": [wait("w", 60), self.message("m"), wait("v", 3), self.message("n")],
        }
        self.clock.move_on(HOUR)
        self.ring(plan)
        self.clock.move_on(HOUR)
        self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.walk(61 * DAY, DAY)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["m"])
        self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.walk(6 * DAY)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["m"])
        self.assertEqual(
            [(one.state, one.cause) for one in self.enrolments()],
            [("left", "stop: order"), ("under way", None)],
        )

    def test_the_text_falls_to_an_email_and_refusals_are_kept_with_their_cause(self) -> None:
        self.add_order(self.add_person(), 0)
        self.add_order(self.add_person("bo@example.com", consent="refused"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m", channels=["email"])]})
        self.clock.move_on(2 * HOUR)
        self.walk(HOUR)
        self.assertEqual(
            [(one.state, one.cause, one.channel) for one in self.deliveries()],
            [("sent", None, "email"), ("withheld", "refused", "email")],
        )
        self.assertEqual([one.state for one in self.enrolments()], ["finished", "finished"])

    def test_windows_limits_and_patience(self) -> None:
        self.care(limits=[FrequencyCap(count=1, days=2)], quiet_begins="21:00", quiet_ends="08:00")
        person = self.add_person()
        self.ring(
            {
                "start": AFTER_AN_ORDER,
                "patience": 1,
                "steps": [
                    self.message("a"),
                    wait("w", 1),
                    self.message("b"),
                    wait("v", 1, "hours"),
                    self.message("c"),
                ],
            }
        )
        self.walk(13 * HOUR)
        self.add_order(person, 0)
        self.walk(6 * DAY, HOUR / 3)
        sent = self.deliveries("sent")
        self.assertEqual([one.step for one in sent], ["a", "b"])
        self.assertEqual(
            [one.due_at.hour for one in sent], [12, 12], "8:00 in New York, after the quiet hours"
        )
        self.assertEqual(sent[1].due_at - sent[0].due_at, 2 * DAY, "put off by the limit")
        self.assertEqual(
            [(one.step, one.cause) for one in self.deliveries("withheld")], [("c", "contact limit")]
        )

    @mock.patch.object(commands_of_sequences, "new_key", lambda: "a key that parts eight")
    def test_forks_lots_tags_notes_and_waiting_for_something(self) -> None:
        people = [self.add_person(f"p{at}@example.com") for at in range(8)]
        self.ring(
            {
                "start": AFTER_AN_ORDER,
                "again": {"kind": "each"},
                "steps": [
                    {
                        "do": "wait",
                        "id": "w",
                        "kind": "until event",
                        "happening": {"what": "order"},
                        "span": {"amount": 5, "unit": "days"},
                    },
                    {
                        "do": "lot",
                        "id": "l",
                        "arms": [
                            {"share": 50, "steps": [{"do": "tell", "id": "t", "words": "Call them"}]},
                            {"share": 50, "steps": []},
                        ],
                    },
                    self.message("m"),
                    {
                        "do": "fork",
                        "id": "f",
                        "arms": [{"did": "opened", "steps": [{"do": "end", "id": "e"}]}],
                        "otherwise": [{"do": "hand off", "id": "h", "list": "Quiet ones"}],
                    },
                ],
            }
        )
        self.clock.move_on(HOUR)
        for person in people:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.walk(DAY)
        self.add_order(people[0], 0)
        again = self.clock.now()
        self.walk(3 * HOUR)
        self.assertEqual(
            [one.due_at for one in self.deliveries("sent")], [again], "woken by the second order"
        )
        self.walk(12 * DAY)
        self.assertEqual(len(self.deliveries("sent")), 9)
        with self.application.database.reading() as session:
            told = list(session.scalars(select(StaffNote.person_id)))
            self.assertEqual(len(list(session.scalars(select(schema.HandedOff.id)))), 9)
        self.assertTrue(0 < len(set(told)) < 8, "the lot parts them")

    def test_a_second_message_is_not_sent_to_who_left_after_it_was_planned(self) -> None:
        person = self.add_person()
        self.ring(
            {
                "start": AFTER_AN_ORDER,
                "stops": [{"what": "visit"}],
                "steps": [wait("w", 1), self.message("m")],
            }
        )
        self.clock.move_on(HOUR)
        self.add_order(person, 0, in_person=False)
        self.clock.move_on(HOUR)
        self.sender.result = "try later"
        self.walk(26 * HOUR)
        self.assertEqual([one.state for one in self.deliveries()], ["planned"], "the network was away")
        self.add_order(person, 0)
        self.sender.result = "accepted"
        self.walk(DAY)
        self.assertEqual([(one.state, one.cause) for one in self.deliveries()], [("withheld", "left")])


class GuardTest(SequenceCase):
    def test_a_day_far_above_the_norm_is_held_until_a_person_lets_it_go(self) -> None:
        people = [self.add_person(f"p{at}@example.com") for at in range(80)]
        made = self.ring({"start": AFTER_AN_ORDER, "steps": [wait("w", 1), self.message("m")]})
        self.clock.move_on(HOUR)
        for person in people:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.walk(26 * HOUR)
        self.assertEqual({one.state for one in self.deliveries()}, {"held"}, "not one has left")
        with self.application.database.reading() as session:
            batch = session.scalars(select(HeldBatch)).one()
        self.assertEqual((batch.origin_id, batch.state), (made, "held"))
        self.assertEqual(self.held_on_today(), [("80 messages are held", f"/held/{batch.id}")])
        self.add_order(people[0], 0)
        self.assertEqual(volume_guard.decide(self.application, batch.id, 5, "Ida"), 5)
        self.walk(HOUR)
        self.assertEqual(len(self.deliveries("sent")), 5)
        self.assertEqual(volume_guard.decide(self.application, batch.id, None, "Ida"), 75)
        self.walk(HOUR)
        self.assertEqual(len(self.deliveries("sent")), 80)

    def held_on_today(self) -> list[tuple[str, str]]:
        return [
            (one.title, one.link)
            for one in today_queries.today(self.application).needs
            if "held" in one.title
        ]

    def test_several_held_days_of_a_sequence_need_one_look(self) -> None:
        people = [self.add_person(f"p{at}@example.com") for at in range(120)]
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        for some in (people[:60], people[60:]):
            self.clock.move_on(HOUR)
            for person in some:
                self.add_order(person, 0)
            self.walk(DAY)
        self.assertEqual(self.held_on_today(), [("120 messages are held", "/held")])

    def test_dropped_ones_never_leave(self) -> None:
        for at in range(80):
            self.add_order(self.add_person(f"p{at}@example.com"), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        self.clock.move_on(2 * HOUR)
        self.walk(HOUR)
        volume_guard.decide(self.application, 1, 0, "Ida")
        self.walk(DAY)
        self.assertEqual({(one.state, one.cause) for one in self.deliveries()}, {("withheld", "volume")})
        self.assertEqual(self.sender.handed, [])


class EditingWhileLiveTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        self.people = [self.add_person(f"p{at}@example.com") for at in range(4)]
        self.first, self.second = self.message("m"), self.message("n")
        self.made = self.ring(
            {"start": AFTER_AN_ORDER, "steps": [wait("w", 2), self.first, wait("v", 2), self.second]}
        )
        self.clock.move_on(HOUR)
        for person in self.people:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.walk(3 * DAY)

    def redraft(self, steps: list[dict[str, Any]]) -> None:
        keep(self.application, self.made, "Ring", read_plan({"start": AFTER_AN_ORDER, "steps": steps}), "Ida")

    def test_people_keep_their_places_and_those_at_a_step_that_goes_are_asked_about(self) -> None:
        self.redraft([wait("w", 2), self.first, self.second])
        what = publishing_preview.change(self.application, self.made)
        self.assertEqual((what.gone, what.under_way, what.live_number), ({"v": 4}, {}, 1))
        with self.assertRaisesRegex(SequenceProblem, "where the people go"):
            publishing.publish(self.application, self.made, publishing.Choices(), "Ida")
        publishing.publish(self.application, self.made, publishing.Choices(moves={"v": "n"}), "Ida")
        self.walk(HOUR)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["m"] * 4 + ["n"] * 4)

    def test_those_who_finished_get_new_last_steps_only_if_asked(self) -> None:
        self.walk(3 * DAY)
        steps = [wait("w", 2), self.first, wait("v", 2), self.second, wait("x", 1), self.message("o")]
        self.redraft(steps)
        what = publishing_preview.change(self.application, self.made)
        self.assertEqual((what.added, what.finished), (["x", "o"], 4))
        publishing.publish(self.application, self.made, publishing.Choices(finished_too=True), "Ida")
        self.walk(2 * DAY)
        self.assertEqual([one.step for one in self.deliveries("sent")][-4:], ["o"] * 4)

    def test_a_pause_keeps_places_and_resuming_asks(self) -> None:
        pausing.pause(self.application, self.made, "Ida")
        self.walk(5 * DAY, DAY)
        self.assertEqual(len(self.deliveries("sent")), 4)
        self.assertEqual(len(self.enrolments("under way")), 4)
        pausing.resume(self.application, self.made, still_wanted=False, let_in=True, by="Ida")
        self.walk(DAY)
        self.assertEqual(len(self.deliveries("sent")), 4)
        self.assertEqual({one.cause for one in self.deliveries("withheld")}, {"too late"})

    def test_waiting_messages_go_out_if_they_are_still_wanted(self) -> None:
        pausing.pause(self.application, self.made, "Ida")
        self.walk(5 * DAY, DAY)
        pausing.resume(self.application, self.made, still_wanted=True, let_in=True, by="Ida")
        self.walk(HOUR)
        self.assertEqual(len(self.deliveries("sent")), 8)

    def test_stop_all_ends_it_with_a_record(self) -> None:
        self.assertEqual(pausing.stop_all(self.application, self.made, "Ida"), 4)
        self.walk(5 * DAY, DAY)
        self.assertEqual(len(self.deliveries("sent")), 4)
        self.assertEqual({(one.state, one.step) for one in self.enrolments()}, {("taken out", "v")})

    def test_a_person_is_moved_on_taken_out_and_put_back(self) -> None:
        way = self.enrolments()[0]
        manual_entry.move_person(self.application, way.id, "on", "Ida")
        self.walk(HOUR)
        self.assertEqual([one.step for one in self.deliveries("sent")][-1], "n")
        other = self.enrolments()[1]
        manual_entry.move_person(self.application, other.id, "out", "Ida")
        self.walk(3 * DAY)
        self.assertEqual(len([one for one in self.deliveries("sent") if one.person_id == other.person_id]), 1)
        manual_entry.move_person(self.application, other.id, "back", "Ida")
        self.walk(HOUR)
        self.assertEqual(len([one for one in self.deliveries("sent") if one.person_id == other.person_id]), 2)
