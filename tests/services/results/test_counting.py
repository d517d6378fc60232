"""The settings of how results are counted: the window, opens of people, the difference worth having."""

from datetime import timedelta

from loyalbell.core.results.attribution import Reason
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import engagement
from loyalbell.services.results.credits import credits_of
from loyalbell.services.results.overview import overview
from loyalbell.services.results.ranges import days_of
from loyalbell.services.scheduler import tick
from loyalbell.services.settings.channels import ResultsSettings
from tests.services.delivery.test_dispatcher import READER, SendingCase
from tests.support import FakeSender


class CountingTest(SendingCase):
    def count(self, **settings: object) -> None:
        with self.application.database.transaction() as session:
            ResultsSettings.load(session).model_copy(update=settings).save(session)

    def opened_by(self, agent: str) -> None:
        """A campaign to one person, opened an hour later; they order six days after that."""
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        tick(self.application, FakeSender())
        self.clock.move_on(timedelta(hours=1))
        engagement.opened(self.application, self.delivery().token, agent)
        self.clock.move_on(timedelta(days=6))
        self.add_order(self.delivery().person_id, 0, 2_500)

    def test_the_money_of_what_is_put_down_is_that_of_its_own_order(self) -> None:
        """Other orders of the book, before and after it, are left out; what was paid back does not count."""
        self.add_order(self.add_person("other@example.org"), 9, 700)
        self.opened_by(READER)
        self.add_order(self.delivery().person_id, -0.5, 300, refunded_minor=100)
        self.clock.move_on(timedelta(days=1))
        self.count(opens_count=True, window_days=8)
        self.assertEqual(credits_of(self.application).money.tolist(), [2_500, 200])

    def reasons(self) -> list[Reason]:
        return [Reason(one) for one in credits_of(self.application).reason.tolist()]

    def test_an_opening_counts_only_where_the_setting_says_so_and_within_its_days(self) -> None:
        self.opened_by(READER)
        self.assertEqual(self.reasons(), [])
        self.count(opens_count=True)
        self.assertEqual(self.reasons(), [], "six days are beyond the window of five")
        self.count(window_days=6)
        self.assertEqual(self.reasons(), [Reason.OPEN])
        self.count(opens_count=False)
        self.assertEqual(self.reasons(), [])

    def test_what_a_machine_fetched_never_counts(self) -> None:
        self.opened_by("PictureFetcher/1.0 (prefetch)")
        self.count(opens_count=True, window_days=30)
        self.assertEqual(self.reasons(), [])

    def test_the_difference_worth_having_reaches_every_row(self) -> None:
        self.opened_by(READER)
        self.count(worth_per_thousand=40)
        today = self.clock.now().date()
        rows = overview(self.application, days_of("30", today, self.application.the_shop().zone)).rows
        self.assertEqual([row.judged.worth for row in rows], [0.04])
