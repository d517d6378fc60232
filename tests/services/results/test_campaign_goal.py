"""Where a campaign stands against its goal: of those it reached, who did it in their own days."""

from datetime import timedelta

from loyalbell.core.campaigns.plan import CampaignGoal
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.customers import duplicates
from loyalbell.services.delivery import engagement
from loyalbell.services.results.campaign_goal import GoalStanding, goal_standing
from loyalbell.services.results.campaign_results import results_of
from loyalbell.services.scheduler import tick
from loyalbell.storage.person_merge import MERGED
from loyalbell.storage.schema import Campaign, Delivery, Person
from tests.services.delivery.test_dispatcher import SendingCase
from tests.support import FakeSender


class CampaignGoalTest(SendingCase):
    def sent(self, goal: CampaignGoal | None) -> int:
        made = self.campaign()
        with self.application.database.reading() as session:
            plan = plan_of(session.get_one(Campaign, made))
        campaign_commands.change_plan(self.application, made, plan.model_copy(update={"goal": goal}))
        campaign_commands.start_campaign(self.application, made, 3, "Ida")
        tick(self.application, FakeSender())
        return made

    def press(self, place: int) -> None:
        with self.application.database.reading() as session:
            token = session.query(Delivery).order_by(Delivery.id).all()[place].token
        engagement.clicked(self.application, token, "0")

    def standing(self, campaign: int) -> GoalStanding | None:
        return goal_standing(self.application, results_of(self.application, campaign))

    def test_only_what_was_done_in_time_counts(self) -> None:
        campaign = self.sent(CampaignGoal(what="clicked", share=50, days=2))
        self.press(0)
        found = self.standing(campaign)
        assert found is not None
        self.assertEqual((found.did, found.reached, found.is_over, found.is_reached), (1, 3, False, False))
        self.clock.move_on(timedelta(days=2, seconds=1))
        self.press(1)
        found = self.standing(campaign)
        assert found is not None
        self.assertEqual((found.did, found.is_over, found.is_reached), (1, True, False), "one second late")

    def test_reached_with_exactly_its_share(self) -> None:
        campaign = self.sent(CampaignGoal(what="clicked", share=33, days=2))
        self.press(0)
        found = self.standing(campaign)
        self.assertTrue(found and found.is_reached)

    def test_without_a_goal_nothing_is_said(self) -> None:
        self.assertIsNone(self.standing(self.sent(None)))

    def test_two_of_whom_each_got_it_are_merged_and_the_results_are_still_there(self) -> None:
        """Seen: the page of the campaign was an error of the program from then on."""
        campaign = self.sent(None)
        with self.application.database.reading() as session:
            kept, gone = (session.get_one(Person, one.person_id) for one in session.query(Delivery).limit(2))
            choice = duplicates.preset(kept, gone)
        duplicates.make_one(self.application, kept.id, gone.id, choice, "Ida")
        found = results_of(self.application, campaign)
        self.assertEqual(found.rounds, [])
        with self.application.database.transaction() as session:
            for number, one in enumerate(session.query(Delivery).order_by(Delivery.id)):
                mark = f"{MERGED}{gone.id}" if number == 1 else ""
                one.occurrence = f"2026-05-12T09:00+00:00{mark}"
        rounds = results_of(self.application, campaign).rounds
        self.assertEqual(
            [(at.isoformat(), count) for at, count in rounds], [("2026-05-12T09:00:00+00:00", 3)]
        )
