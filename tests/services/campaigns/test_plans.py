"""Campaigns beyond message and segment: who is left out, when they go out, how fast, and the care for all of
them.
"""

from datetime import timedelta
from typing import Any

from sqlalchemy import func, select

from loyalbell.core.campaigns.plan import CampaignPlan, Pacing
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.demo.messages import lapsed
from loyalbell.services.campaigns import audience
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.delivery.timing import in_quiet_hours
from loyalbell.services.scheduler import tick
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage.schema import Campaign, Delivery, Person
from tests.services.sequences.test_runner import SequenceCase

HOUR, DAY = timedelta(hours=1), timedelta(days=1)


class CampaignPlanCase(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        self.people = [self.add_person(f"p{at}@example.com") for at in range(6)]
        for person in self.people:
            self.add_order(person, 100)
        self.names = 0

    def draft(self, letter: int | None = None, **plan: Any) -> int:
        self.names += 1
        letter = letter or self.letter(f"Campaign letter {self.names}")
        segment = segment_commands.keep(
            self.application, None, f"Segment {self.names}", self.lapsed_rule(), "Ida"
        )
        made = campaign_commands.draft_campaign(
            self.application, f"Campaign {self.names}", segment, letter, "Ida"
        )
        campaign_commands.change_plan(self.application, made, CampaignPlan(**plan))
        return made

    def lapsed_rule(self) -> Any:
        return lapsed(60)

    def of(self, campaign_id: int) -> Campaign:
        with self.application.database.reading() as session:
            return session.get_one(Campaign, campaign_id)

    def start(self, campaign_id: int) -> int:
        seen = len(audience.audience(self.application, self.of(campaign_id)).reached)
        return campaign_commands.start_campaign(self.application, campaign_id, seen, "Ida")

    def sent(self, campaign_id: int) -> int:
        query = select(func.count()).where(
            Delivery.origin_kind == "campaign", Delivery.origin_id == campaign_id, Delivery.state == "sent"
        )
        with self.application.database.reading() as session:
            return session.scalar(query) or 0


class OrderTest(CampaignPlanCase):
    """Service before sequences by their rank before campaigns (rules of the job, section 6)."""

    def met(self, first: str) -> list[tuple[str, str]]:
        with self.application.database.transaction() as session:
            CareSettings.load(session).model_copy(update={"limits": [FrequencyCap(count=1, days=1)]}).save(
                session
            )
        start = {"on": "lack", "happening": {"what": "order"}, "days": 101}
        rings = [self.ring({"start": start, "steps": [self.message(name)]}, name) for name in ("a", "b")]
        if first == "b":
            sequence_commands.change_rank(self.application, rings[1], True, "Ida")
        made = self.draft(at=self.clock.now() + DAY, engaged_only=False)
        self.start(made)
        self.walk(DAY, DAY)
        self.assertEqual(self.sent(made), 0, "the campaign gives way")
        went = [(one.state, one.step) for one in self.deliveries() if one.person_id == self.people[0]]
        self.walk(3 * DAY)
        self.assertEqual(self.sent(made), 6)
        return went

    def test_the_upper_sequence_goes_first_and_a_campaign_after_both(self) -> None:
        self.assertEqual(self.met("a"), [("sent", "a")])

    def test_the_order_can_be_changed(self) -> None:
        self.assertEqual(self.met("b"), [("sent", "b")])


class LeftOutTest(CampaignPlanCase):
    def test_segments_that_are_left_out_and_people_held_back(self) -> None:
        vip = segment_commands.keep(
            self.application,
            None,
            "Two of them",
            segment_queries.read_rule(
                {"version": 1, "root": {"lines": [{"about": "people", "ids": self.people[:2]}]}}
            ),
            "Ida",
        )
        made = self.draft(exclude=(vip,))
        found = audience.audience(self.application, self.of(made))
        self.assertEqual(
            (len(found.reached), [found.left_out[one] for one in self.people[:2]]), (4, ["excluded"] * 2)
        )
        held = self.draft(held_back=50)
        causes = list(audience.audience(self.application, self.of(held)).left_out.values())
        self.assertTrue(causes and set(causes) == {"held back"})

    def test_only_who_would_get_it_is_held_back(self) -> None:
        """Seen: people who had never agreed were held back, and compared with people who had."""
        nobody = {self.add_person(f"never{at}@example.com", consent="never asked") for at in range(40)}
        for person in nobody:
            self.add_order(person, 90)
        found = audience.audience(self.application, self.of(self.draft(held_back=50, engaged_only=False)))
        self.assertTrue(nobody <= set(found.left_out))
        self.assertEqual({found.left_out[one] for one in nobody}, {"never asked"})
        self.assertEqual(set(found.reached), set(found.channel), "nobody half taken out")
        self.assertEqual(set(found.reached), set(found.message))

    def test_those_who_never_react_are_left_out_unless_asked_for(self) -> None:
        """Common practice, no source: who got three or more in 120 days and neither reacted nor bought."""
        letter = self.letter("Seen")
        with self.application.database.transaction() as session:
            for number in range(3):
                delivery = Delivery(
                    origin_kind="campaign",
                    origin_id=900 + number,
                    person_id=self.people[0],
                    message_version_id=1,
                    channel="email",
                    token=f"t{number}",
                    state="sent",
                    due_at=self.clock.now() - 20 * DAY,
                    sent_at=self.clock.now() - 20 * DAY,
                )
                session.add(delivery)
            session.flush()
        quiet = self.draft(letter, engaged_days=90)
        self.assertEqual(
            audience.audience(self.application, self.of(quiet)).left_out, {self.people[0]: "no reaction"}
        )
        everyone = self.draft(letter, engaged_only=False)
        self.assertEqual(len(audience.audience(self.application, self.of(everyone)).reached), 6)


class WhenTest(CampaignPlanCase):
    def test_a_scheduled_campaign_goes_out_once_at_its_time(self) -> None:
        at = self.clock.now() + DAY
        made = self.draft(at=at)
        self.start(made)
        self.walk(23 * HOUR)
        self.assertEqual((self.of(made).state, self.sent(made)), ("scheduled", 0))
        self.walk(2 * DAY)
        self.assertEqual((self.of(made).state, self.sent(made)), ("sent", 6))
        with self.assertRaises(CannotSend):
            campaign_commands.start_campaign(self.application, made, 6, "Ida")
        with self.assertRaises(CannotSend):
            campaign_commands.change_plan(self.application, made, CampaignPlan())

    def test_one_that_has_grown_far_beyond_what_was_confirmed_is_held(self) -> None:
        made = self.draft(at=self.clock.now() + DAY)
        self.start(made)
        for at in range(60):
            self.add_order(self.add_person(f"late{at}@example.com"), 90)
        self.walk(26 * HOUR)
        self.assertEqual((self.of(made).state, self.sent(made)), ("held", 0))
        campaign_commands.unschedule(self.application, made, "Ida")
        self.assertEqual(self.of(made).state, "draft")
        self.assertEqual(self.start(made), 66)

    def test_a_few_at_a_time(self) -> None:
        made = self.draft(
            pacing=Pacing(batch=2, minutes=60, weekdays=(0, 1, 2, 3, 4, 5, 6), begins="09:00", ends="23:00")
        )
        self.start(made)
        counts = []
        for _ in range(4):
            tick(self.application, self.sender)
            counts.append(self.sent(made))
            self.clock.move_on(HOUR)
        self.assertEqual(counts, [2, 4, 6, 6])

    def test_a_time_that_has_passed_is_refused(self) -> None:
        with self.assertRaisesRegex(CannotSend, "has passed"):
            self.draft(at=self.clock.now() - HOUR)


class CareTest(CampaignPlanCase):
    def test_quiet_hours_put_it_off_to_the_morning_of_their_own_zone(self) -> None:
        self.care(quiet_begins="21:00", quiet_ends="08:00")
        with self.application.database.transaction() as session:
            session.get_one(Person, self.people[0]).zone = "Asia/Tokyo"
        with self.application.database.reading() as session:
            later = in_quiet_hours(session, self.application.the_shop(), self.people, self.clock.now())
        self.assertEqual(later, 1, "said before it is sent")
        made = self.draft()
        self.start(made)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 5, "9:40 in New York is 22:40 in Tokyo")
        self.walk(10 * HOUR)
        self.assertEqual(self.sent(made), 6)

    def test_a_second_campaign_waits_for_the_limit_and_is_skipped_after_three_days(self) -> None:
        self.care(limits=[FrequencyCap(count=1, days=2)])
        first, second = self.draft(), self.draft()
        self.start(first)
        tick(self.application, self.sender)
        self.start(second)
        tick(self.application, self.sender)
        self.assertEqual((self.sent(first), self.sent(second)), (6, 0))
        self.walk(2 * DAY)
        self.assertEqual(self.sent(second), 6)
        self.care(limits=[FrequencyCap(count=1, days=30)])
        third = self.draft()
        self.start(third)
        self.walk(DAY)
        self.assertEqual((self.sent(third), self.of(third).state), (0, "sent"))

    def test_a_silenced_channel_keeps_its_messages(self) -> None:
        self.care(silent=["email"])
        made = self.draft()
        self.start(made)
        self.walk(DAY)
        self.assertEqual(self.sent(made), 0)
        self.care(silent=[])
        self.walk(HOUR)
        self.assertEqual(self.sent(made), 6)
