"""Whatever is changed in whatever way, the snapshot that followed is the snapshot loaded anew."""

import shutil
import sqlite3
import tempfile
import unittest
from collections.abc import Iterator
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Connection, Table, delete, insert, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from loyalbell.core.history.columns import Rows
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.demo.build import NOW, build_demo
from loyalbell.services.application import Application
from loyalbell.storage import change_log, change_tracking
from loyalbell.storage.schema import (
    Base,
    CustomField,
    Delivery,
    FieldValue,
    Offer,
    OfferCode,
    Order,
    Person,
    Redemption,
    Tag,
)
from loyalbell.storage.snapshot.loading import load_snapshot

CODED = {"kind", "properties", "plan", "term", "origin", "word", "name"}
"""Columns that hold codes of words.

A followed snapshot may number words in another order than a fresh one.
"""
LEFT_ALONE = {"change_log", "leader_lease"}
OF_A_KIND = {("field_value", "value"), ("field_value", "field_id"), ("custom_field", "kind")}
"""A value must be of its field's kind; these have a test of their own."""


def said(snapshot: HistorySnapshot) -> dict[str, Any]:
    """Everything a snapshot tells, with words for their codes and people by id.

    Without people who are gone.
    """
    words = {code: word for word, code in snapshot.words.items()}
    here = snapshot.people.joined_at < 2**61
    people = {one.name: getattr(snapshot.people, one.name)[here].tolist() for one in fields(snapshot.people)}
    people["words"] = [[words.get(code, "") for code in row] for row in people["words"]]
    told: dict[str, Any] = {"people": people, "catalogue": snapshot.catalogue}
    told |= {"zone": snapshot.zone, "currency": snapshot.currency}
    for one in fields(snapshot):
        part = getattr(snapshot, one.name)
        if isinstance(part, Rows):
            columns = [snapshot.people.ids[part.person].tolist()]
            for column in fields(part):
                values = getattr(part, column.name).tolist()
                if column.name in CODED:
                    values = [words.get(code, "") for code in values]
                if column.name != "person":
                    columns.append(values)
            told[one.name] = sorted(map(repr, zip(*columns, strict=True)))
    return told


class ChangeTrackingTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.demo = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        build_demo(cls.demo, people=40).close()
        cls.addClassCleanup(shutil.rmtree, cls.demo, ignore_errors=True)

    def setUp(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        shutil.copytree(self.demo, folder, dirs_exist_ok=True)
        self.application = Application(folder)
        self.addCleanup(self.application.close)
        self.application.snapshot()

    def agrees(self, what: str) -> None:
        with self.application.database.reading() as session:
            anew = said(load_snapshot(session, change_log.newest(session)))
        followed = said(self.application.snapshot())
        for part, told in anew.items():
            self.assertEqual(followed[part], told, f"{part} after: {what}")

    def change(self, what: str, act: Any) -> bool:
        """Does ``act`` in a transaction of its own; ``False`` where the tables refuse it."""
        try:
            with self.application.database.transaction() as session:
                act(session)
        except IntegrityError:
            return False
        self.agrees(what)
        return True

    def test_every_table_in_every_way(self) -> None:
        """A row copied, each column of a row set to another row's value, a row taken out.

        By plain SQL and by Core.
        """
        for table in Base.metadata.sorted_tables:
            if table.name in LEFT_ALONE or "id" not in table.c:
                continue
            with self.subTest(table=table.name):
                for what, act in self.acts(table):
                    self.change(f"{table.name}, {what}", act)

    def acts(self, table: Table) -> Iterator[tuple[str, Any]]:
        with self.application.database.reading() as session:
            rows = session.connection().exec_driver_sql(
                f"SELECT * FROM {table.name} ORDER BY id DESC LIMIT 40"
            )
            kept = [dict(row._mapping) for row in rows]
        if not kept:
            return
        first, last = kept[0], kept[-1]
        for column in table.c:
            other = next((row[column.name] for row in kept if row[column.name] != first[column.name]), None)
            if (
                column.name != "id"
                and (table.name, column.name) not in OF_A_KIND
                and (other is not None or column.nullable)
            ):
                yield (
                    f"{column.name} set by SQL",
                    lambda session, name=column.name, value=other: self.run_sql(
                        session, f'UPDATE {table.name} SET "{name}" = ? WHERE id = ?', value, first["id"]
                    ),
                )
        copied = {name: value for name, value in last.items() if name != "id"}
        names = ", ".join(f'"{name}"' for name in copied)
        marks = ", ".join("?" * len(copied))
        yield (
            "a row copied by SQL",
            lambda session: self.run_sql(
                session, f"INSERT INTO {table.name} ({names}) VALUES ({marks})", *copied.values()
            ),
        )
        if table.name != "shop":
            yield (
                "a row taken out by Core",
                lambda session: session.execute(delete(table).where(table.c.id == last["id"])),
            )

    def run_sql(self, session: Session, statement: str, *values: Any) -> None:
        connection: Connection = session.connection()
        connection.exec_driver_sql(statement, tuple(values))

    def test_objects_statements_and_cascades(self) -> None:
        with self.application.database.reading() as session:
            person, other = session.scalars(select(Person.id).order_by(Person.id).limit(2))
        self.change("an object changed", lambda s: setattr(s.get_one(Person, person), "birthday_month", 7))
        self.change("an object added", lambda s: s.add(Tag(name="Brand new")))
        self.change(
            "rows added by Core",
            lambda s: s.execute(
                insert(Order),
                [
                    {
                        "person_id": other,
                        "placed_at": s.get_one(Person, other).joined_at,
                        "total_minor": 5,
                        "currency": "USD",
                    }
                ]
                * 3,
            ),
        )
        self.change(
            "rows changed by Core",
            lambda s: s.execute(update(Order).values(total_minor=Order.total_minor + 1)),
        )
        self.change(
            "a person taken out, and everything with them", lambda s: s.delete(s.get_one(Person, person))
        )

    def test_values_of_fields(self) -> None:
        with self.application.database.reading() as session:
            number = session.scalars(select(CustomField).where(CustomField.kind == "number")).first()
            assert number is not None
            value = session.scalars(select(FieldValue.id).where(FieldValue.field_id == number.id)).first()
        self.change("a value changed", lambda s: setattr(s.get_one(FieldValue, value), "value", 99.5))
        self.change(
            "the kind of a field changed",
            lambda s: setattr(s.get_one(CustomField, number.id), "kind", "text"),
        )

    def test_a_code_that_is_used(self) -> None:
        with self.application.database.reading() as session:
            code = session.scalars(select(OfferCode.id).order_by(OfferCode.id)).first()
        if code is None:
            with self.application.database.transaction() as session:
                offer = session.scalars(select(Offer.id)).first()
                person = session.scalars(select(Person.id)).first()
                made = OfferCode(offer_id=offer, person_id=person, code="TEST-1", issued_at=NOW, uses_left=0)
                session.add(made)
                session.flush()
                code = made.id
        self.change("all uses gone", lambda s: setattr(s.get_one(OfferCode, code), "uses_left", 0))
        self.change(
            "a code used",
            lambda s: s.add(
                Redemption(code_id=code, at=NOW, by="till", purchase_minor=9, given_minor=1, cost_minor=1)
            ),
        )

    def test_a_transaction_that_fails_notes_nothing(self) -> None:
        with self.application.database.reading() as session:
            before = change_log.newest(session)
        with self.assertRaises(RuntimeError), self.application.database.transaction() as session:
            session.execute(update(Order).values(total_minor=1))
            raise RuntimeError
        self.change("a change after one that failed", lambda s: s.add(Tag(name="After a failure")))
        with self.application.database.reading() as session:
            noted = change_log.since(session, before)
        self.assertEqual(noted, {"catalogue": None})

    def test_what_the_snapshot_does_not_read_is_not_noted(self) -> None:
        self.change("something that is noted, on the same connection", lambda s: s.add(Tag(name="Before")))
        with self.application.database.reading() as session:
            before = change_log.newest(session)
        with self.application.database.transaction() as session:
            session.execute(update(Delivery).values(detail="seen"))
        with self.application.database.reading() as session:
            self.assertEqual(change_log.newest(session), before)

    def test_many_rows_become_one_note(self) -> None:
        kept, change_tracking.BULK = change_tracking.BULK, 3
        self.addCleanup(setattr, change_tracking, "BULK", kept)
        with self.application.database.reading() as session:
            before = change_log.newest(session)
        self.change("many rows", lambda s: s.execute(update(Order).values(total_minor=Order.total_minor + 1)))
        with self.application.database.reading() as session:
            noted = change_log.since(session, before)
        assert noted is not None and noted["orders"] is not None
        self.assertEqual(len(noted["orders"]), 1)

    def many(self, session: Session, ids: list[int | None]) -> None:
        change_tracking.insert_many(
            session,
            "orders",
            "INSERT INTO orders (id, person_id, placed_at, total_minor, currency, refunded_minor, in_person)"
            " VALUES (?, ?, ?, ?, 'USD', 0, 0)",
            [(at, 1 if at else None, int(NOW.timestamp()) - 60, 500) for at in ids],
            np.array([at or 0 for at in ids]),
        )

    def test_very_many_rows_are_noted_together_and_the_next_one_by_itself(self) -> None:
        self.assertTrue(self.change("a bulk of orders", lambda s: self.many(s, [10**6 + 1, 10**6 + 2])))
        with self.application.database.reading() as session:
            person = session.scalar(select(Order.person_id).limit(1))
        order = Order(person_id=person, placed_at=NOW, total_minor=7, currency="USD")
        self.assertTrue(self.change("an order after it", lambda s: s.add(order)))

    def test_a_bulk_that_fails_leaves_the_triggers_as_they_were(self) -> None:
        with self.assertRaises(IntegrityError), self.application.database.transaction() as session:
            self.many_or_orm_error(session)
        with self.application.database.reading() as session:
            person = session.scalar(select(Order.person_id).limit(1))
        order = Order(person_id=person, placed_at=NOW, total_minor=8, currency="USD")
        self.assertTrue(self.change("an order after a failure", lambda s: s.add(order)))

    def many_or_orm_error(self, session: Session) -> None:
        try:
            self.many(session, [10**6 + 5, None])
        except sqlite3.IntegrityError as error:
            raise IntegrityError("", None, error) from error
