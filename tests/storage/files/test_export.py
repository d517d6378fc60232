"""What goes out comes back in unchanged, and runs nowhere as a formula."""

import csv
import io
import json
import shutil
import tempfile
import unittest
from datetime import timedelta
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.demo.build import build_demo
from loyalbell.services.application import Application
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import exports
from loyalbell.services.imports import mapping as import_mapping
from loyalbell.storage.schema import CustomField, ExternalId, ImportRun, Item, OrderLine
from tests.support import NOW, ApplicationCase


def bring(application: Application, kind: str, content: str | bytes) -> ImportRun:
    file = io.BytesIO(content if isinstance(content, bytes) else content.encode())
    run = import_commands.begin_import(application, kind, f"{kind}.csv", file, "Ida")
    import_commands.carry_out(application, run.id, True, lambda share, words: None)
    with application.database.reading() as session:
        return session.get_one(ImportRun, run.id)


def out(application: Application, kind: str, form: str = "csv") -> str:
    path = application.data / f"out.{form}"
    exports.to_file(application, kind, form, path)
    return path.read_text(encoding="utf-8")


class TheDemo(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        cls.application = build_demo(cls.folder, people=150)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.application.close()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def test_into_the_same_book_nothing_changes(self) -> None:
        before = exports.figures(self.application)
        for kind in exports.KINDS:
            run = bring(self.application, kind, out(self.application, kind))
            self.assertEqual((run.created, run.changed, run.refused), (0, 0, 0), run.problems[:3])
            self.assertGreater(run.unchanged, 0)
        self.assertEqual(exports.figures(self.application), before)

    def test_a_whole_shop_moves_into_an_empty_book(self) -> None:
        other = ApplicationCase()
        other.setUp()
        self.addCleanup(other.doCleanups)
        with self.application.database.reading() as session:
            fields = {field.name: field.kind for field in session.scalars(select(CustomField))}
        for kind in (
            "customers",
            "items",
            "orders",
            "visits",
            "appointments",
            "memberships",
            "events",
            "answers",
            "suppressions",
        ):
            text = out(self.application, kind)
            run = import_commands.begin_import(
                other.application, kind, "f.csv", io.BytesIO(text.encode()), "Ida"
            )
            if kind == "customers":
                own = {f"new:{made}:{name}": name for name, made in fields.items()}
                own |= {
                    "new:yearly:Adoption day": "Adoption day (yearly)",
                    "new:id:bookings": "ID in bookings",
                }
                import_mapping.apply_map(other.application, run.id, {"columns": run.mapping["columns"] | own})
            import_commands.carry_out(other.application, run.id, True, lambda share, words: None)
            self.assertEqual(out(other.application, kind), text, kind)
        figures = exports.figures(self.application)
        self.assertEqual(exports.figures(other.application), figures)
        self.assertGreater(int(str(figures["visits"])), 1_000)

    def test_a_spreadsheet_comes_back_too(self) -> None:
        for kind in ("customers", "appointments", "orders"):
            path = self.folder / f"{kind}.xlsx"
            exports.to_file(self.application, kind, "xlsx", path)
            run = bring(self.application, kind, path.read_bytes())
            self.assertEqual((run.created, run.changed, run.refused), (0, 0, 0), run.problems[:3])
            self.assertGreater(run.unchanged, 100)

    def test_cards_and_calendars_come_back_too(self) -> None:
        for kind, form in (("customers", "vcf"), ("appointments", "ics")):
            path = self.folder / f"{kind}.{form}"
            exports.to_file(self.application, kind, form, path)
            run = bring(self.application, kind, path.read_bytes())
            self.assertEqual((run.created, run.changed, run.refused), (0, 0, 0), run.problems[:3])
            self.assertGreater(run.unchanged, 100)

    def test_json_holds_the_same_cells(self) -> None:
        rows = list(csv.DictReader(io.StringIO(out(self.application, "orders"))))
        named = json.loads(out(self.application, "orders", "json"))
        self.assertEqual([{name: cell for name, cell in row.items() if cell} for row in rows], named)

    def test_the_command_line_says_the_same_as_sql(self) -> None:
        result = CliRunner().invoke(app, ["book", "--data", str(self.folder), "--json"])
        with self.application.database.reading() as session:
            total = session.connection().exec_driver_sql(
                "SELECT sum(total_minor) - sum(refunded_minor) FROM orders WHERE cancelled_at IS NULL"
            )
            self.assertEqual(json.loads(result.output)["money"], {"USD": total.scalar_one()})
        file = self.folder / "c.csv"
        told = CliRunner().invoke(
            app, ["export", "customers", "--data", str(self.folder), "--out", str(file)]
        )
        self.assertIn("152 rows", told.output)
        wrong = CliRunner().invoke(app, ["export", "pets", "--data", str(self.folder)])
        self.assertEqual((wrong.exit_code, "cannot be exported" in wrong.output), (1, True))


NAMES = st.text(st.characters(exclude_categories=("C", "Z")), min_size=1, max_size=20)


class IntoAnotherBook(ApplicationCase):
    def test_orders_with_every_kind_of_time(self) -> None:
        person = self.add_person("a@example.com", first_name="=HYPERLINK(1)", last_name="-2+3")
        times = {
            f"{name}_at": NOW - timedelta(hours=at)
            for at, name in enumerate(("delivered", "shipped", "confirmed"), 1)
        }
        self.add_order(person, 3, 5_000, external_id="A", refunded_minor=700, refunded_at=NOW, **times)
        self.add_order(person, 2, 900, external_id="B", cancelled_at=NOW)
        self.add_order(person, 1, 1, external_id="C")
        with self.application.database.transaction() as session:
            session.add(ExternalId(source="import", value="@me", person_id=person))
            session.add(Item(id=1, name="+kibble", external_id="K"))
            session.flush()
            session.add(OrderLine(order_id=1, item_id=1, quantity=1_250, total_minor=4_000))
            session.add(OrderLine(order_id=1, item_id=None, quantity=1_000, total_minor=1_000))
        files = {
            kind: out(self.application, kind) for kind in ("customers", "items", "orders", "order-lines")
        }
        for text in files.values():
            for row in csv.reader(io.StringIO(text)):
                self.assertFalse([cell for cell in row if cell.startswith(("=", "@"))])
        self.copied(files)

    @settings(
        max_examples=15,
        deadline=None,
        suppress_health_check=[HealthCheck.differing_executors, HealthCheck.too_slow],
    )
    @given(
        NAMES,
        NAMES,
        st.none() | st.tuples(st.none() | st.integers(1930, 2020), st.integers(1, 12), st.integers(1, 28)),
    )
    def test_any_customer(self, first: str, last: str, born: tuple[int | None, int, int] | None) -> None:
        year, month, day = born or (None, None, None)
        number = len(self.application.snapshot().people)
        self.add_person(
            f"p{number}@example.com",
            first_name=first,
            last_name=last,
            birthday_year=year,
            birthday_month=month,
            birthday_day=day,
        )
        run = bring(self.application, "customers", out(self.application, "customers"))
        self.assertEqual((run.changed, run.created, run.refused), (0, 0, 0), run.problems)

    def copied(self, files: dict[str, str]) -> None:
        """The files brought into an empty book of their own come out of it letter for letter."""
        other = ApplicationCase()
        other.setUp()
        self.addCleanup(other.doCleanups)
        for kind, text in files.items():
            run = bring(other.application, kind, text)
            self.assertEqual((run.refused, run.problem), (0, None), run.problems)
            self.assertEqual(out(other.application, kind), text)
