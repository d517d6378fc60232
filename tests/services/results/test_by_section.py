"""What came of a campaign by the sections its people were shown."""

from sqlalchemy import select

from loyalbell.core.messages import content as c
from loyalbell.core.segments.model import read_rule
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import engagement
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.results.breakdown.by_kind import breakdown
from loyalbell.services.results.breakdown.part import Part
from loyalbell.services.results.ranges import days_of
from loyalbell.services.scheduler import tick
from loyalbell.storage.schema import Delivery
from tests.services.delivery.test_dispatcher import SendingCase
from tests.support import FakeSender

CALLED_P0 = read_rule(
    {
        "version": 1,
        "root": {"lines": [{"about": "person", "fact": "first_name", "comparison": "is", "value": "P0"}]},
    }
)


class BySectionTest(SendingCase):
    def letter(self) -> int:
        blocks = [
            c.Text(text="For P0 alone: [look](https://example.com/a)", when=c.When(rule=CALLED_P0)),
            c.Text(text="Everybody else: [look](https://example.com/b)", when=c.When(otherwise=True)),
        ]
        head = message_queries.letterheads(self.application)[0].id
        mail = c.EmailContent(subject="Hi", preview="p", letterhead=head, blocks=blocks)
        content = c.MessageContent(writings=[mail])
        return message_commands.keep(self.application, None, "Parts", content, "Ida")

    def test_each_section_has_those_who_were_shown_it_and_those_who_were_not(self) -> None:
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        tick(self.application, FakeSender())
        with self.application.database.reading() as session:
            sent = list(session.scalars(select(Delivery).order_by(Delivery.person_id)))
        self.assertEqual([delivery.shown for delivery in sent], ["10", "01", "01"])
        engagement.clicked(self.application, sent[0].token, "0")
        days = days_of("7", self.clock.now().date(), self.application.the_shop().zone)
        found = breakdown(self.application, ("campaign", campaign), days)["Section shown"]
        self.assertEqual(
            found,
            [
                Part("For P0 alone: look: shown", 1, 1, 0),
                Part("For P0 alone: look: not shown", 2, 0, 0),
                Part("Everybody else: look: shown", 2, 0, 0),
                Part("Everybody else: look: not shown", 1, 1, 0),
            ],
        )
