"""Refunds whose day is not known: money that went back is never counted (rules of the job, section 2)."""

from sqlalchemy import insert

from loyalbell.storage.change_log import newest
from loyalbell.storage.schema import OrderLine
from loyalbell.storage.snapshot.loading import load_snapshot
from tests.support import ApplicationCase


class RefundsTest(ApplicationCase):
    def test_they_count_from_the_orders_own_day(self) -> None:
        person = self.add_person()
        whole = self.add_order(person, 9, 1_000, refunded_minor=1_000)
        part = self.add_order(person, 8, 2_500, refunded_minor=500)
        self.add_order(person, 7, 700)
        with self.application.database.transaction() as session:
            rows = [{"order_id": one, "quantity": 1_000, "total_minor": 1_000} for one in (whole, part)]
            session.execute(insert(OrderLine), rows)
        now = int(self.clock.now().timestamp())
        with self.application.database.reading() as session:
            anew = load_snapshot(session, newest(session))
        for snapshot in (self.application.snapshot(), anew):
            every = slice(0, len(snapshot.orders))
            stands = snapshot.orders.counted(every, now)
            self.assertEqual(stands.tolist(), [False, True, True])
            self.assertEqual(snapshot.orders.net_money(every, now)[stands].tolist(), [2_000, 700])
            self.assertEqual((snapshot.lines.void_at > now).tolist(), [False, True])
