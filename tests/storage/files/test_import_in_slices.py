"""A large file is written in slices: others write in between, nobody is judged by half a file, and half a
file never stays.
"""

import io
import os
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from unittest import mock

from sqlalchemy import func, select, text

from loyalbell.services.application import Application
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import under_way
from loyalbell.services.scheduler import tick
from loyalbell.storage import long_write
from loyalbell.storage.files import record_import
from loyalbell.storage.files.customers import customer_import
from loyalbell.storage.files.orders import order_import, order_line_import, order_upsert
from loyalbell.storage.schema import ImportRun, Order, OrderLine, Person, Visit
from tests.services.sequences.test_runner import AFTER_AN_ORDER, SequenceCase
from tests.storage.files.test_imports import ImportCase
from tests.support import FakeSender

ROWS, SMALL = 60, 7


def customers(count: int = ROWS) -> str:
    rows = (f"C{number},c{number}@example.com,Shop {number % 5}" for number in range(count))
    return "\n".join(("Customer ID,Email,Tags", *rows, ""))


def orders(count: int = ROWS) -> str:
    rows = (
        f"O{number},C{number % 9},2026-03-{1 + number % 28:02},Item {number % 4},1,{number}.50"
        for number in range(count)
    )
    return "\n".join(("Order ID,Customer ID,Date,Item,Quantity,Line total", *rows, ""))


def visits(count: int = ROWS) -> str:
    rows = (f"C{number % 9},2026-04-{1 + number % 28:02} {number % 24:02}:00" for number in range(count))
    return "\n".join(("Customer ID,Date", *rows, ""))


class SlicedCase(ImportCase):
    """Chunks of a few rows, and others' turn after each."""

    def setUp(self) -> None:
        super().setUp()
        for module in (customer_import, record_import, order_import):
            self.patch(module, "CHUNK", SMALL)
        self.patch(order_line_import, "MANY", SMALL)
        self.patch(order_upsert, "SLICE", SMALL)
        self.patch(long_write, "GAP_SECONDS", 0.0)

    def patch(self, module: object, name: str, value: object) -> None:
        patched = mock.patch.object(module, name, value)
        patched.start()
        self.addCleanup(patched.stop)

    def in_slices(self, between: Callable[[], object] = lambda: None) -> list[int]:
        """From now on a slice ends as soon as it may, and ``between`` is done in each gap. Counts them."""
        gaps, really = [0], self.application.database.turn_for_others

        def and_something(session: object) -> object:
            gaps[0] += 1
            turn = really(session)  # type: ignore[arg-type]

            class Gap:
                def __enter__(self) -> int:
                    newest = turn.__enter__()
                    between()
                    return newest

                def __exit__(self, *error: object) -> None:
                    turn.__exit__(*error)  # type: ignore[arg-type]

            return Gap()

        self.patch(long_write, "SLICE_SECONDS", 0.0)
        self.patch(self.application.database, "turn_for_others", and_something)
        return gaps


class SameResult(SlicedCase):
    def test_as_written_at_once(self) -> None:
        files = (("customers", customers()), ("orders", orders()), ("visits", visits()))
        for kind, content in files:
            self.assertEqual(self.bring(kind, content).problem, None)
        whole = self.dump()
        self.application.close()
        with self.application.database.transaction() as session:
            for table in ("order_line", "orders", "visit", "item", "person", "import_change"):
                session.execute(text(f"DELETE FROM {table}"))
        gaps = self.in_slices()
        for kind, content in files:
            before = gaps[0]
            self.assertEqual(self.bring(kind, content).problem, None)
            self.assertGreater(gaps[0] - before, 3, kind)
        self.assertEqual(self.dump(), whole)


class OthersInBetween(SlicedCase):
    def test_a_till_brings_people_and_orders_meanwhile(self) -> None:
        came = [0]

        def till() -> None:
            came[0] += 1
            person = self.add_person(f"till{came[0]}@example.com")
            self.add_order(person, 1, external_id=f"T{came[0]}")

        self.in_slices(till)
        for kind, content in (("customers", customers()), ("orders", orders()), ("visits", visits())):
            self.assertEqual(self.bring(kind, content).problem, None, kind)
        with self.application.database.reading() as session:
            people = session.scalar(select(func.count()).select_from(Person))
            count = session.scalar(select(func.count()).select_from(Order))
            self.assertEqual((people, count), (ROWS + came[0], ROWS + came[0]))
            self.assertEqual(session.scalar(select(func.count()).select_from(Visit)), ROWS)
            self.assertEqual(session.scalar(select(func.count()).select_from(OrderLine)), ROWS)

    def test_whoever_comes_by_the_till_meanwhile_is_not_made_twice(self) -> None:
        last = f"c{ROWS - 1}@example.com"
        self.in_slices(lambda: self.add_person(last) if not self.is_there(last) else None)
        self.assertEqual(self.bring("customers", customers()).problem, None)
        with self.application.database.reading() as session:
            found = session.scalars(select(Person).where(Person.email == last)).all()
        self.assertEqual(len(found), 2, "its row names an id that the till did not: to be looked at")

    def is_there(self, email: str) -> bool:
        with self.application.database.reading() as session:
            return session.scalar(select(Person.id).where(Person.email == email)) is not None

    def test_a_writer_waits_less_than_a_second(self) -> None:
        """With slices as long as they really are; asserted is the order of turns, not a time."""
        gaps, waited = [0], threading.Event()
        self.patch(long_write, "SLICE_SECONDS", 0.01)
        really = self.application.database.turn_for_others

        def counted(session: object) -> object:
            gaps[0] += 1
            return really(session)  # type: ignore[arg-type]

        self.patch(self.application.database, "turn_for_others", counted)
        asked, got = [0], [0]

        def write() -> None:
            while gaps[0] < 2:
                time.sleep(0.001)
            asked[0] = gaps[0]
            with self.application.database.transaction():
                got[0] = gaps[0]
            waited.set()

        thread = threading.Thread(target=write)
        thread.start()
        self.bring("customers", customers(3_000))
        thread.join(30)
        self.assertTrue(waited.is_set())
        self.assertLessEqual(got[0] - asked[0], 1, "it had to wait for more than the slice under way")


class CutOff(SlicedCase):
    def test_a_failure_in_the_midst_leaves_nothing(self) -> None:
        self.bring("customers", customers(20))
        before = self.dump()
        gaps = self.in_slices()
        broken = mock.patch.object(
            order_upsert.OrdersWrite, "_insert_lines", side_effect=RuntimeError("broken")
        )
        with broken, self.assertRaisesRegex(RuntimeError, "broken"):
            self.bring("orders", orders())
        self.assertGreater(gaps[0], 3)
        self.assertEqual(self.dump(), before)
        self.assertEqual(self.newest().state, "failed")
        self.assertEqual(self.newest().problem, under_way.FAILED)
        self.assertFalse(under_way.is_under_way(self.application))

    def newest(self) -> ImportRun:
        with self.application.database.reading() as session:
            return session.scalars(select(ImportRun).order_by(ImportRun.id.desc())).first()  # type: ignore[return-value]

    def killed_while_writing(self) -> None:
        """The file is brought in by a process that dies in the third gap."""
        folder, clock = self.folder, self.clock
        self.application.database.engine.dispose()

        def die() -> None:
            application = Application(folder, clock)
            gaps = [0]

            def gap(session: object) -> object:
                gaps[0] += 1
                if gaps[0] == 3:
                    with really(session):  # type: ignore[arg-type]
                        os._exit(9)
                return really(session)  # type: ignore[arg-type]

            really = application.database.turn_for_others
            application.database.turn_for_others = gap  # type: ignore[assignment,method-assign]
            long_write.SLICE_SECONDS = 0.0
            run = import_commands.begin_import(
                application, "customers", "f.csv", io.BytesIO(customers().encode()), "Ida"
            )
            import_commands.carry_out(application, run.id, True, lambda share, words: None)
            os._exit(0)

        child = os.fork()
        if child == 0:
            try:
                die()
            finally:
                os._exit(1)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 9)

    def people(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(Person)) or 0

    def test_what_a_killed_process_had_written_is_taken_back(self) -> None:
        self.killed_while_writing()
        self.assertGreater(self.people(), 0, "it had written something")
        self.assertFalse(under_way.is_under_way(self.application))
        self.assertEqual(self.people(), 0)
        self.assertEqual((self.newest().state, self.newest().problem), ("failed", under_way.STOPPED))
        self.assertEqual(self.bring("customers", customers()).created, ROWS)

    def test_what_others_have_used_meanwhile_stays_and_is_said(self) -> None:
        self.killed_while_writing()
        self.add_order(1, 1)
        self.assertFalse(under_way.is_under_way(self.application))
        self.assertGreater(self.people(), 0)
        self.assertIn("a part of it is in the book", self.newest().problem or "")
        again = self.bring("customers", customers())
        self.assertEqual((again.problem, self.people()), (None, ROWS))


class TheEngineWaits(SequenceCase):
    def test_nobody_is_let_in_while_a_file_is_being_written(self) -> None:
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        run = import_commands.begin_import(
            self.application, "customers", "f.csv", io.BytesIO(customers(3).encode()), "Ida"
        )
        with self.application.database.transaction() as session:
            session.get_one(ImportRun, run.id).state = "running"
        with under_way.writing(self.application, run.id):
            self.clock.move_on(timedelta(minutes=1))
            self.add_order(self.add_person(), 0)
            tick(self.application, FakeSender())
            self.assertEqual(self.enrolments(), [])
            with self.application.database.transaction() as session:
                session.get_one(ImportRun, run.id).state = "done"
        tick(self.application, FakeSender())
        self.assertEqual(len(self.enrolments()), 1)
