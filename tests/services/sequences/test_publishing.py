"""Publishing for a later day, the goal of what rings, and a draft rehearsed over the coming weeks."""

from datetime import timedelta
from typing import Any

from sqlalchemy import select

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.clock.pacing import Pace
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.campaigns import audience
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.rehearsal.forecast import rehearse_coming
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import goals, publishing
from loyalbell.services.sequences.publishing import Choices
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.today.queries import today
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait

A_YEAR_ON = {"on": "lack", "happening": {"what": "order"}, "days": 60}


class LaterTest(SequenceCase):
    def later(self, plan: dict[str, Any], **choices: Any) -> int:
        made = sequence_commands.keep(self.application, None, "Later", read_plan(plan), "Ida")
        self.again(made, **choices)
        return made

    def again(self, made: int, **choices: Any) -> None:
        publishing.publish(
            self.application, made, Choices(at=self.clock.now() + 2 * DAY, **choices), "Ida", 10
        )

    def of(self, sequence_id: int) -> schema.Sequence:
        with self.application.database.reading() as session:
            return session.get_one(schema.Sequence, sequence_id)

    def test_the_backlog_comes_in_on_the_day_as_was_chosen(self) -> None:
        for number in range(4):
            self.add_order(self.add_person(f"p{number}@example.com"), 100)
        pace = Pace(2, 3_600, SendWindow())
        made = self.later({"start": A_YEAR_ON, "steps": [self.message("m")]}, backlog=True, pace=pace)
        self.walk(DAY)
        self.assertEqual((self.of(made).state, self.deliveries()), ("draft", []))
        self.walk(DAY + HOUR / 2, HOUR / 2)
        self.assertEqual((self.of(made).state, len(self.deliveries("sent"))), ("live", 2))
        self.walk(2 * HOUR)
        self.assertEqual((len(self.deliveries("sent")), self.of(made).normal), (4, 10))

    def test_what_was_confirmed_rings_and_not_what_was_written_since(self) -> None:
        made = self.later({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        sequence_commands.keep(
            self.application,
            made,
            "Later",
            read_plan({"start": AFTER_AN_ORDER, "steps": [self.message("other")]}),
            "Ben",
        )
        self.walk(3 * DAY, DAY / 2)
        self.add_order(self.add_person(), 0)
        self.walk(DAY)
        self.assertEqual([one.step for one in self.deliveries()], ["m"])

    def test_people_at_a_step_that_goes_are_moved_or_a_person_is_asked(self) -> None:
        person = self.add_person()
        made = self.ring({"start": AFTER_AN_ORDER, "steps": [wait("long", 30), self.message("m")]})
        self.clock.move_on(HOUR)
        self.add_order(person, 0)
        self.walk(DAY)
        shorter = read_plan({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        sequence_commands.keep(self.application, made, "Ring", shorter, "Ida")
        with self.assertRaises(sequence_drafts.SequenceProblem):
            self.again(made)
        self.again(made, moves={"long": "m"})
        self.walk(3 * DAY)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["m"])

    def test_a_message_that_broke_meanwhile_holds_it_and_today_says_so(self) -> None:
        letter = self.letter("Was fine")
        made = self.later(
            {"start": AFTER_AN_ORDER, "steps": [{"do": "message", "id": "m", "message": letter}]}
        )
        with self.application.database.transaction() as session:
            session.get_one(schema.Shop, 1).sender_email = ""
        self.walk(3 * DAY, DAY)
        found = self.of(made)
        self.assertEqual((found.state, found.goes_live_at), ("draft", None))
        self.assertIn(
            "“Later” could not be published", [need.title for need in today(self.application).needs]
        )

    def test_it_can_be_called_off(self) -> None:
        made = self.later({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        publishing.call_off(self.application, made, "Ida")
        self.walk(3 * DAY, DAY)
        self.assertEqual(self.of(made).state, "draft")


class GoalTest(SequenceCase):
    def test_those_whose_days_are_over_are_told_from_those_still_counting(self) -> None:
        made = self.ring(
            {
                "start": AFTER_AN_ORDER,
                "held_back": 0,
                "steps": [self.message("m")],
                "again": {"kind": "each"},
                "goal": {"happening": {"what": "order"}, "days": 10, "share": 15},
            }
        )
        people = [self.add_person(f"p{at}@example.com") for at in range(4)]
        self.clock.move_on(HOUR)
        for person in people:
            self.add_order(person, 0)
        self.walk(4 * DAY, HOUR * 6)
        self.add_order(people[0], 0)
        self.walk(8 * DAY, HOUR * 6)
        with self.application.database.reading() as session:
            plan = sequence_drafts.draft_of(session.get_one(schema.Sequence, made))
        found = goals.goal_of(self.application, made, plan)
        assert found is not None
        stand = found.treated
        self.assertEqual((stand.reached, stand.of, stand.early, stand.open), (1, 4, 0, 1))
        self.assertEqual((found.held_back.of, found.came_in.of, found.came_in.reached), (0, 4, 1))


class ComingDraftTest(SequenceCase):
    def coming(self, plan: dict[str, Any], sequence_id: int = 0) -> Any:
        found = rehearse_coming(self.application, read_plan(plan), sequence_id, wait=True)
        assert found is not None
        return found

    def test_a_draft_takes_the_place_of_what_is_live_of_it(self) -> None:
        self.clock.move_on(HOUR)
        plan = {"start": AFTER_AN_ORDER, "steps": [wait("w", 10), self.message("m")]}
        made = self.ring(plan)
        self.clock.move_on(HOUR)
        self.add_order(self.add_person(), 0)
        self.walk(DAY)
        sent = self.coming(plan, made).found.sent
        days = [round((one.at - self.clock.now().timestamp()) / 86_400) for one in sent]
        self.assertEqual((days, self.coming(plan, made).others), ([9], 0))
        self.assertEqual(
            self.coming({"start": AFTER_AN_ORDER, "steps": [wait("w", 30), self.message("m")]}, made)
            .found.sent[0]
            .step,
            "m",
        )

    def test_messages_that_went_and_campaigns_that_wait_count_towards_the_limit(self) -> None:
        with self.application.database.transaction() as session:
            CareSettings.load(session).model_copy(update={"limits": [FrequencyCap(count=1, days=30)]}).save(
                session
            )
        person = self.add_person()
        plan = {
            "start": {"on": "lack", "happening": {"what": "order"}, "days": 70},
            "steps": [self.message("m")],
        }
        self.add_order(person, 60)
        self.assertEqual(len(self.coming(plan).found.sent), 1)
        rule = segment_queries.read_rule(
            {"version": 1, "root": {"lines": [{"about": "people", "ids": [person]}]}}
        )
        segment = segment_commands.keep(self.application, None, "One", rule, "Ida")
        made = campaign_commands.draft_campaign(self.application, "Soon", segment, self.letter("Soon"), "Ida")
        campaign_commands.change_plan(
            self.application, made, CampaignPlan(at=self.clock.now() + 5 * DAY, engaged_only=False)
        )
        with self.application.database.reading() as session:
            campaign = session.get_one(schema.Campaign, made)
        campaign_commands.start_campaign(
            self.application, made, len(audience.audience(self.application, campaign).reached), "Ida"
        )
        self.clock.move_on(timedelta(minutes=1))
        found = self.coming(plan | {"patience": 4}).found
        self.assertEqual(found.sent, [])
        self.assertEqual([one.cause for one in found.refused], ["contact limit"])
        with self.application.database.reading() as session:
            self.assertIsNone(session.scalar(select(Delivery.id)))
