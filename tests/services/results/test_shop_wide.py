"""Customers who get no marketing for a quarter, in the engine, in campaigns and in the comparison."""

from datetime import timedelta

import numpy as np

from loyalbell.core.policy.holdout import Holdout
from loyalbell.services.results.ranges import days_of
from loyalbell.services.results.shop_wide import shop_wide
from loyalbell.services.scheduler import tick
from loyalbell.services.settings.channels import HoldoutSettings, change_holdout, loaded
from loyalbell.storage.schema import Message
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait

PEOPLE = 60


class HeldOutTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        self.people = [self.add_person(f"p{at}@example.com") for at in range(PEOPLE)]
        with self.application.database.transaction() as session:
            day = self.clock.now().date()
            HoldoutSettings(percent=20, since=day, fixed={"2026-2": 50}).save(session)
        holdout = loaded(self.application, HoldoutSettings).holdout
        self.out = {one for one in self.people if holdout.holds(one, day)}
        self.assertTrue(15 < len(self.out) < 45)

    def test_they_go_through_a_sequence_without_its_messages(self) -> None:
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m"), wait("w", 1)]}, name="After")
        for person in self.people:
            self.add_order(person, 0)
        self.care(guard_floor=1_000)
        self.walk(2 * DAY)
        sent = {one.person_id for one in self.deliveries("sent")}
        self.assertEqual(sent, set(self.people) - self.out)
        causes = {one.cause for one in self.deliveries("withheld")}
        self.assertEqual(causes, {"held out"})
        self.assertEqual({one.state for one in self.enrolments()}, {"finished"})

    def test_service_messages_go_to_them(self) -> None:
        plan = {"start": AFTER_AN_ORDER, "steps": [self.message("m")]}
        with self.application.database.transaction() as session:
            session.get_one(Message, plan["steps"][0]["message"]).purpose = "service"
        self.ring(plan, name="Receipt")
        for person in self.people:
            self.add_order(person, 0)
        self.care(guard_floor=1_000)
        self.walk(HOUR)
        self.assertEqual({one.person_id for one in self.deliveries("sent")}, set(self.people))

    def test_one_who_is_drawn_while_their_message_waits_does_not_get_it(self) -> None:
        """Asked at every attempt, as any other refusal."""
        with self.application.database.transaction() as session:
            HoldoutSettings().save(session)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        self.care(silent=["email"], guard_floor=1_000)
        for person in self.people:
            self.add_order(person, 0)
        self.walk(HOUR)
        change_holdout(self.application, 20, "Ida")
        self.care(silent=[])
        tick(self.application, self.sender)
        holdout = loaded(self.application, HoldoutSettings).holdout
        out = {one for one in self.people if holdout.holds(one, self.clock.now().date())}
        self.assertEqual({one.person_id for one in self.deliveries("sent")}, set(self.people) - out)

    def test_what_everything_added_is_counted_against_them(self) -> None:
        """By hand: everybody else ordered twice in the quarter, those left out once."""
        for _ in range(8):
            self.people += [self.add_person(f"q{len(self.people)}-{at}@example.com") for at in range(30)]
        holdout: Holdout = loaded(self.application, HoldoutSettings).holdout
        self.clock.move_on(timedelta(days=40))
        day = self.clock.now().date()
        days = days_of("90", day, self.application.the_shop().zone)
        for person in self.people:
            self.add_order(person, 3)
            if not holdout.draws(person, "2026-2"):
                self.add_order(person, 4)
        found = shop_wide(self.application, days)
        assert found is not None and found.orders is not None
        self.assertEqual(found.treated + found.held, len(self.people))
        self.assertEqual(found.held, sum(holdout.draws(one, "2026-2") for one in self.people))
        self.assertTrue(np.isclose(found.orders.best, found.treated))
        self.assertTrue(found.is_certain)

    def test_too_early_in_a_quarter_nothing_is_said(self) -> None:
        self.clock.move_on(timedelta(days=20))
        days = days_of("90", self.clock.now().date(), self.application.the_shop().zone)
        found = shop_wide(self.application, days)
        assert found is not None
        self.assertIsNone(found.orders)
        with self.application.database.transaction() as session:
            HoldoutSettings().save(session)
        self.assertIsNone(shop_wide(self.application, days))
