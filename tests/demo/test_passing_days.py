"""The demo's people go on by themselves as its clock walks: they buy, and look at the site before."""

import shutil
import tempfile
import unittest
from datetime import timedelta
from pathlib import Path

from sqlalchemy import select

from loyalbell.demo.clock_driver import shortest_step
from loyalbell.demo.passing_days import PassingDays
from loyalbell.storage.schema import Event, Order
from tests.support import demo_book


class ShortestStep(unittest.TestCase):
    def test_a_large_book_walks_in_larger_steps(self) -> None:
        said = {people: shortest_step(people).seconds // 60 for people in (0, 9_999, 10_000, 40_000, 500_000)}
        self.assertEqual(said, {0: 5, 9_999: 5, 10_000: 10, 40_000: 25, 500_000: 30})


class PassingDaysTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        self.application = demo_book(folder)
        self.addCleanup(self.application.close)
        self.now = self.application.clock.now()

    def passed(self, table: type[Order] | type[Event]) -> list[Order] | list[Event]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(table).where(table.external_id.like("F%")).order_by(table.id)))

    def test_they_buy_and_look_at_the_site_each_in_its_time_and_once(self) -> None:
        days = PassingDays(self.application)
        until = self.now + timedelta(days=4)
        days.pass_until(until)
        orders, looks = self.passed(Order), self.passed(Event)
        self.assertGreater(len(orders), 20)
        self.assertGreater(len(looks), 10)
        self.assertLessEqual({"viewed a page", "filled a basket"}, {look.kind for look in looks})
        for look in looks:
            self.assertTrue(self.now < look.at <= until, look.at)
        # who begins again with the same book goes on where it stood
        PassingDays(self.application).pass_until(until)
        self.assertEqual((len(self.passed(Order)), len(self.passed(Event))), (len(orders), len(looks)))

    def test_a_step_is_not_shortened_for_a_look(self) -> None:
        days = PassingDays(self.application)
        due = days.next_due()
        self.assertIn(due, {row["at"] for row in days.rows if "kind" not in row})
