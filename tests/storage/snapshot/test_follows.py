"""After any run of changes, the ledger that followed them is the ledger loaded anew."""

import gc
from dataclasses import fields
from datetime import timedelta
from itertools import product

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import delete, select, update

from loyalbell.core.history.columns import NEVER, Rows
from loyalbell.core.history.snapshot import HistorySnapshot, WordCodes
from loyalbell.storage import change_log
from loyalbell.storage.schema import Department, Location, Order, OrderLine, Person
from loyalbell.storage.snapshot.loading import load_snapshot
from loyalbell.storage.snapshot.rows.history import lines, orders
from loyalbell.storage.snapshot.rows.reading import Loading
from tests.support import NOW, ApplicationCase

ACTS = st.lists(
    st.tuples(
        st.sampled_from(
            ("order", "late", "refund", "cancel", "drop", "person", "close", "rename", "gone", "line")
        ),
        st.integers(0, 30),
    ),
    min_size=1,
    max_size=8,
)


def plain(snapshot: HistorySnapshot) -> dict[str, object]:
    """The ledger's columns as lists; people who are gone, and anything of theirs, left out."""
    found: dict[str, object] = {}
    here = snapshot.people.joined_at < 2**61
    found["people"] = [[getattr(snapshot.people, one.name)[here].tolist() for one in fields(snapshot.people)]]
    for one in fields(snapshot):
        part = getattr(snapshot, one.name)
        if isinstance(part, Rows):
            ids = snapshot.people.ids[part.person]
            rows = zip(
                ids.tolist(),
                *(getattr(part, name.name).tolist() for name in fields(part) if name.name != "person"),
                strict=True,
            )
            found[one.name] = list(rows)
    return found


class ChangesCase(ApplicationCase):
    """People and orders, to which anything may happen."""

    def setUp(self) -> None:
        super().setUp()
        self.people = [self.add_person(f"p{n}@example.com") for n in range(3)]
        self.orders = [self.add_order(self.people[n % 3], n + 1, 100 * n + 100) for n in range(6)]
        self.application.snapshot()

    def do(self, act: str, number: int) -> None:
        people, orders = self.people, self.orders
        person, order = people[number % len(people)], orders[number % len(orders)] if orders else 0
        if act in ("order", "late"):
            orders.append(self.add_order(person, 0.5 if act == "order" else 40 + number, 700))
            return
        if act == "person":
            people.append(self.add_person(f"n{len(people)}-{number}@example.com"))
            return
        with self.application.database.transaction() as session:
            if act in ("refund", "cancel"):
                facts = (
                    {"refunded_at": NOW, "refunded_minor": 50} if act == "refund" else {"cancelled_at": NOW}
                )
                session.execute(update(Order).where(Order.id == order).values(facts))
            elif act == "line" and order:
                session.add(OrderLine(order_id=order, quantity=1000, total_minor=number))
            elif act == "drop" and len(orders) > 1:
                orders.remove(order)
                session.execute(delete(Order).where(Order.id == order))
            elif act == "close":
                session.execute(
                    update(Person).where(Person.id == person).values(closed_at=NOW - timedelta(days=number))
                )
            elif act == "rename":
                session.execute(
                    update(Person).where(Person.id == person).values(email=None, birthday_month=2)
                )
            elif act == "gone" and len(people) > 1:
                theirs = list(
                    session.scalars(
                        Order.__table__.select().with_only_columns(Order.id).where(Order.person_id == person)
                    )
                )
                self.orders = [one for one in orders if one not in theirs] or [0]
                people.remove(person)
                session.execute(delete(Person).where(Person.id == person))


class Reading(ChangesCase):
    def test_lines_have_whose_when_and_where_from_their_orders(self) -> None:
        """Orders whose numbers do not go by time, some cancelled, of a department and a place; read whole and
        some alone, the orders before them or not.
        """
        with self.application.database.transaction() as session:
            session.add_all([Department(id=4, name="Café"), Location(id=9, name="Mill Lane")])
            session.flush()
            for order, quantity in product(self.orders[2:5], (1_000, 2_000)):
                session.add(OrderLine(order_id=order, quantity=quantity, total_minor=order))
            facts = {"department_id": 4, "location_id": 9, "cancelled_at": NOW}
            session.execute(update(Order).where(Order.id == self.orders[3]).values(facts))
        with self.application.database.reading() as reader:
            stored = {order.id: order for order in reader.scalars(select(Order))}
            for first, span in product((None, (self.orders[3], self.orders[4])), repeat=2):
                loading = Loading(reader, self.application.snapshot().people, WordCodes(), "UTC")
                orders(loading, first)
                found = lines(loading, span)
                self.assertEqual(len(found), 6 if span is None else 4)
                for row, key in enumerate(found.key.tolist()):
                    order = stored[key]
                    self.assertEqual(found.person[row], loading.numbers([order.person_id])[0])
                    self.assertEqual(found.at[row], int(order.placed_at.timestamp()))
                    self.assertEqual(found.department[row], order.department_id or 0)
                    self.assertEqual(found.void_at[row] < NEVER, key == self.orders[3])

    def test_the_collector_is_as_it_was(self) -> None:
        with self.application.database.reading() as reader:
            for was_on in (False, True):
                (gc.enable if was_on else gc.disable)()
                try:
                    load_snapshot(reader)
                    self.assertIs(gc.isenabled(), was_on)
                finally:
                    gc.enable()


class Following(ChangesCase):
    @settings(
        max_examples=40,
        deadline=None,
        suppress_health_check=[HealthCheck.differing_executors, HealthCheck.too_slow],
    )
    @given(ACTS)
    def test_any_changes(self, acts: list[tuple[str, int]]) -> None:
        for act, number in acts:
            self.do(act, number)
            if number % 3 == 0:
                self.application.snapshot()
        with self.application.database.reading() as session:
            anew = load_snapshot(session, change_log.newest(session))
        self.assertEqual(plain(self.application.snapshot()), plain(anew))

    def test_notes_that_were_forgotten(self) -> None:
        with self.application.database.transaction() as session:
            session.execute(update(Order).values(total_minor=7))
            session.connection().exec_driver_sql("DELETE FROM change_log")
        self.assertEqual(set(self.application.snapshot().orders.money.tolist()), {7})

    def test_a_gap_between_the_notes(self) -> None:
        """The first note after the snapshot is gone, a later one is there: everything is read again."""
        with self.application.database.transaction() as session:
            session.execute(update(Order).values(total_minor=7))
        with self.application.database.transaction() as session:
            session.connection().exec_driver_sql("DELETE FROM change_log")
            session.execute(update(Person).where(Person.id == self.people[0]).values(birthday_month=3))
        snapshot = self.application.snapshot()
        self.assertEqual(set(snapshot.orders.money.tolist()), {7})
        self.assertEqual(int(snapshot.people.birthday_month[0]), 3)

    @given(st.sets(st.integers(0, 5_000)))
    def test_runs_hold_every_id(self, ids: set[int]) -> None:
        ranges = change_log.runs(np.fromiter(ids, np.int64, len(ids)))
        held = {one for one in ids if any(low <= one <= high for low, high in ranges)}
        self.assertEqual(held, ids)
        self.assertTrue(all(low <= high for low, high in ranges))
        self.assertTrue(all(np.diff([edge for span in ranges for edge in span]) >= 0))
