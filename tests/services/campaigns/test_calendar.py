"""The calendar and the coming weeks: what has gone is counted, what is expected leans on nothing but
today.
"""

from datetime import timedelta

import numpy as np

from loyalbell.core.clock.zones import zone_of
from loyalbell.core.rhythm.expected_orders import with_expected_orders
from loyalbell.core.rhythm.return_curve import buying_days, gaps, repeat_curve
from loyalbell.services.calendar import queries as calendar_queries
from loyalbell.services.campaigns import audience
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.rehearsal.forecast import look_ahead
from loyalbell.services.scheduler import tick
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, wait
from tests.support import ZONE


class ComingWeeksTest(CampaignPlanCase):
    def expected(self, seed: int = 1):
        snapshot, now = self.application.snapshot(), int(self.clock.now().timestamp())
        curve = repeat_curve(*gaps(buying_days(snapshot, now), zone_of(ZONE).day(now)))
        return snapshot, with_expected_orders(snapshot, now, 42, 30.0, curve, seed), now

    def test_drawn_returns_leave_the_past_alone_and_lie_ahead(self) -> None:
        for person in self.people:
            for days in range(7, 100, 14):
                self.add_order(person, days)
        before, after, now = self.expected()
        drawn = after.orders.key < 0
        self.assertTrue(drawn.any())
        self.assertTrue(np.array_equal(after.orders.at[~drawn], before.orders.at))
        self.assertTrue(
            bool(np.all((after.orders.at[drawn] > now) & (after.orders.at[drawn] < now + 44 * 86_400)))
        )
        self.assertTrue(
            np.array_equal(self.expected()[1].orders.at, after.orders.at), "the same again for the same seed"
        )
        each = drawn.sum() / len(self.people)
        self.assertTrue(1 <= each <= 5, f"fortnightly buyers come about three times in six weeks, not {each}")

    def test_those_under_way_go_on_from_where_they_stand(self) -> None:
        self.ring({"start": AFTER_AN_ORDER, "steps": [wait("w", 10), self.message("m")]})
        self.clock.move_on(HOUR)
        self.add_order(self.people[0], 0)
        self.clock.move_on(HOUR)
        self.walk(2 * DAY, DAY)
        found = look_ahead(self.application)
        day = zone_of(ZONE).day(int((self.clock.now() + 8 * DAY).timestamp()))
        self.assertEqual(sum(found.days[day].values()), 1)

    def test_what_has_gone_and_what_is_planned_stand_on_their_days_and_can_be_moved(self) -> None:
        now = self.draft()
        self.start(now)
        tick(self.application, self.sender)
        later = self.draft(at=self.clock.now() + 3 * DAY)
        self.start(later)
        days = {one.day: one for one in calendar_queries.calendar(self.application, None)}
        today = self.clock.now().date()
        self.assertEqual(days[today].sent["email"], 6)
        self.assertEqual([one.name for one in days[today + 3 * DAY].campaigns], ["Campaign 2"])
        calendar_queries.move_campaign(self.application, later, today + 5 * DAY, "Ida")
        self.assertEqual(self.of(later).goes_out_at, self.clock.now() + 5 * DAY)
        self.assertEqual(audience.plan_of(self.of(later)).at, self.clock.now() + 5 * DAY)
        with self.assertRaises(CannotSend):
            calendar_queries.move_campaign(self.application, later, today - timedelta(days=1), "Ida")
        with self.assertRaises(CannotSend):
            calendar_queries.move_campaign(self.application, now, today + DAY, "Ida")
