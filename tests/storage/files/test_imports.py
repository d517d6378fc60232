import csv
import io
from datetime import UTC, datetime

from sqlalchemy import func, select

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import files as import_files
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.schema import ConsentEntry, ImportRun, Item, Order, OrderLine, Person
from tests.support import ApplicationCase, said_of_rows, wait_for

CUSTOMERS = """Customer ID,First name,Last name,Email,Mobile,Birthday,Customer since,Email consent
C1,Ann,Pell,Ann@Example.COM,(212) 555-0100,2/29/1992,2024-01-05,yes
C2,Bea,,bea@example.org,,11/30,1/31/2025,no
C3,,Rooke,,+44 20 7946 0123,,,
"""
BY_LINE = """Receipt,Customer ID,Date,Department,Item,Qty,Line total,Status
1,C1,2026-03-02T10:15:00-05:00,Shop,Kibble,1,52.00,paid
2,C2,3/9/2026 15:40,Café,Tea,2,"1,010.00",paid
1,C1,2026-03-02T10:15:00-05:00,Shop,Chews,1.5,24.00,paid
3,C3,9 March 2026,Shop,Hay,1,18,cancelled
"""


class ImportCase(ApplicationCase):
    def bring(self, kind: str, text: str | bytes, write: bool = True) -> ImportRun:
        content = text.encode() if isinstance(text, str) else text
        run = import_commands.begin_import(self.application, kind, "f.csv", io.BytesIO(content), "Ida")
        import_commands.carry_out(self.application, run.id, write, lambda share, words: None)
        with self.application.database.reading() as session:
            return session.get_one(ImportRun, run.id)

    def counts(self, run: ImportRun) -> tuple[int, int, int, int]:
        self.assertIsNone(run.problem)
        return run.created, run.changed, run.unchanged, run.refused

    def dump(self) -> list[tuple[object, ...]]:
        with self.application.database.reading() as session:
            found: list[tuple[object, ...]] = []
            for table in (Person, ConsentEntry, Order, OrderLine, Item):
                names = [
                    c.name for c in table.__table__.columns if c.name not in ("id", "import_id", "source")
                ]
                found += session.execute(select(*(getattr(table, n) for n in names)).order_by(table.id)).all()
            return found


class MoneyOfLines(ImportCase):
    """What stands for the price of one, of a line and of an order in files as tills write them."""

    def lines(self, text: str) -> tuple[dict[str, str], int, list[tuple[int, int]], list[str]]:
        """How the columns were guessed, the order's total, (quantity, total) of its lines, and the notes."""
        self.add_person("ann@example.com")
        run = self.bring("orders", text)
        self.assertIsNone(run.problem)
        self.assertEqual(run.refused, 0)
        with self.application.database.reading() as session:
            order = session.scalars(select(Order)).one()
            rows = session.execute(select(OrderLine.quantity, OrderLine.total_minor).order_by(OrderLine.id))
            return (
                run.mapping["columns"],
                order.total_minor,
                [tuple(row) for row in rows],
                run.mapping["notes"],
            )  # type: ignore[misc]

    def test_quantity_unit_price_and_amount(self) -> None:
        """Seen: the order was stored as $20 instead of $32, and nobody was told."""
        columns, total, lines, notes = self.lines(
            "Order,Email,Date,Item,Qty,Unit price,Amount\n"
            "1,ann@example.com,2026-03-02,Tea,2,10.00,20.00\n"
            "1,ann@example.com,2026-03-02,Cake,3,4.00,12.00\n"
        )
        self.assertEqual(columns["line_total"], "Amount")
        self.assertEqual((total, lines, notes), (3_200, [(2_000, 2_000), (3_000, 1_200)], []))

    def test_a_price_beside_a_quantity_is_of_one_and_is_said(self) -> None:
        """Seen: 3 at 10.00 were stored as $10."""
        columns, total, lines, notes = self.lines(
            "Order,Email,Date,Item,Quantity,Price\n1,ann@example.com,2026-03-02,Tea,3,10.00\n"
        )
        self.assertEqual(columns["unit_price"], "Price")
        self.assertEqual((total, lines), (3_000, [(3_000, 3_000)]))
        self.assertIn("3 × 10 = 30", notes[0])

    def test_a_price_that_adds_up_to_the_total_as_it_is_is_of_the_line(self) -> None:
        columns, total, lines, _ = self.lines(
            "Order,Email,Date,Item,Quantity,Price,Order total\n"
            "1,ann@example.com,2026-03-02,Tea,3,10.00,14.00\n"
            "1,ann@example.com,2026-03-02,Cake,1,4.00,14.00\n"
        )
        self.assertEqual(columns["line_total"], "Price")
        self.assertEqual((total, lines), (1_400, [(3_000, 1_000), (1_000, 400)]))

    def test_an_amount_that_differs_within_an_order_is_of_the_line(self) -> None:
        columns, total, _, _ = self.lines(
            "Order,Email,Date,Item,Amount\n"
            "1,ann@example.com,2026-03-02,Tea,3.00\n1,ann@example.com,2026-03-02,Cake,4.00\n"
        )
        self.assertEqual((columns["line_total"], total), ("Amount", 700))

    def test_a_total_of_the_order_on_each_line_stays_one(self) -> None:
        columns, total, lines, _ = self.lines(
            "Order,Email,Date,Item,Qty,Unit price,Order total\n"
            "1,ann@example.com,2026-03-02,Tea,2,10.00,32.00\n"
            "1,ann@example.com,2026-03-02,Cake,3,4.00,32.00\n"
        )
        self.assertEqual((columns["total"], total), ("Order total", 3_200))
        self.assertEqual(lines, [(2_000, 2_000), (3_000, 1_200)])

    def test_none_and_half_of_a_thing(self) -> None:
        _, total, lines, _ = self.lines(
            "Order,Email,Date,Item,Qty,Unit price\n"
            "1,ann@example.com,2026-03-02,Bag,0,0.10\n1,ann@example.com,2026-03-02,Ham,0.5,9.99\n"
        )
        self.assertEqual((total, lines), (500, [(0, 0), (500, 500)]))

    def test_lines_brought_in_by_themselves(self) -> None:
        self.add_person("ann@example.com")
        self.bring("orders", "Order,Email,Date,Total\n1,ann@example.com,2026-03-02,32.00\n")
        run = self.bring("order-lines", "Order,Item,Qty,Unit price\n1,Tea,2,10.00\n1,Bag,0,0.10\n")
        self.assertIsNone(run.problem)
        with self.application.database.reading() as session:
            rows = session.execute(select(OrderLine.quantity, OrderLine.total_minor).order_by(OrderLine.id))
            self.assertEqual([tuple(row) for row in rows], [(2_000, 2_000), (0, 0)])


class ShortYears(ImportCase):
    def test_nobody_is_born_in_the_future(self) -> None:
        """Seen: 24.02.51 was read as 2051. The tests' year is 2026."""
        self.bring(
            "customers",
            "Email,Birthday\na@example.com,24.02.51\nb@example.com,24.02.26\nc@example.com,3.4.25\n",
        )
        with self.application.database.reading() as session:
            years = list(session.scalars(select(Person.birthday_year).order_by(Person.id)))
        self.assertEqual(years, [1951, 2026, 2025])


class Customers(ImportCase):
    def test_they_come_in_and_a_second_time_nothing_changes(self) -> None:
        self.assertEqual(self.counts(self.bring("customers", CUSTOMERS, write=False)), (3, 0, 0, 0))
        self.assertEqual(len(self.application.snapshot().people), 0)
        self.assertEqual(self.counts(self.bring("customers", CUSTOMERS)), (3, 0, 0, 0))
        before = self.dump()
        self.assertEqual(self.counts(self.bring("customers", CUSTOMERS)), (0, 0, 3, 0))
        self.assertEqual(self.dump(), before)
        with self.application.database.reading() as session:
            ann, bea, rooke = session.scalars(select(Person).order_by(Person.id))
        self.assertEqual((ann.email, ann.phone), ("Ann@example.com", "+12125550100"))
        self.assertEqual((ann.birthday_year, ann.birthday_month, ann.birthday_day), (1992, 2, 29))
        self.assertEqual((bea.birthday_year, bea.birthday_month, bea.birthday_day), (None, 11, 30))
        self.assertEqual(ann.joined_at, datetime(2024, 1, 5, 5, tzinfo=UTC))
        self.assertEqual(rooke.phone, "+442079460123")

    def test_a_file_never_undoes_a_refusal(self) -> None:
        self.bring("customers", CUSTOMERS)
        run = self.bring("customers", "Customer ID,Email consent\nC2,yes\nC1,no\n")
        self.assertEqual(self.counts(run), (0, 1, 1, 0))
        now = self.application.snapshot().agreed(0, int(self.clock.now().timestamp()))
        self.assertEqual(list(now), [False, False, False])

    def test_bad_rows_are_refused_with_reasons_and_can_be_mended(self) -> None:
        bad = (
            "id,email,phone,birthday,name\n1,no-at-sign,,,A"
            " B\n2,,12345,,\n3,,,1/1/2031,\n4,ok@example.com,,,=HYPERLINK(1)\n4,,,,\n,,,,only a"
            " name\n5,,,31/31/2020,\n"
        )
        run = self.bring("customers", bad)
        self.assertEqual(self.counts(run), (5, 0, 0, 2))
        self.assertEqual(run.left_out, 4)
        reasons = said_of_rows(run)
        for row, words in (
            (2, "email"),
            (3, "phone number"),
            (4, "future"),
            (6, "row 5"),
            (7, "no customer id"),
            (8, "not a date"),
        ):
            self.assertIn(words, reasons[row])
        with import_files.refused_file(self.application, run.id).open(
            encoding="utf-8-sig", newline=""
        ) as file:
            rows = list(csv.reader(file))
        self.assertEqual(rows[0][-3:], ["row", "what became of it", "why"])
        self.assertEqual(len(rows), 7)

    def test_a_stop_half_way_writes_nothing(self) -> None:
        broken = CUSTOMERS + "".join(f"D{at},Dan\n" for at in range(400)) + 'C9,"' + "x" * 140_000
        run = self.bring("customers", broken)
        self.assertEqual(run.state, "failed")
        self.assertIn("quotation mark", run.problem or "")
        self.assertEqual(len(self.application.snapshot().people), 0)

    def test_two_files_at_once_wait_their_turn(self) -> None:
        others = (
            CUSTOMERS.replace("C1", "D1")
            .replace("C2", "D2")
            .replace("C3", "D3")
            .replace("@", "2@")
            .replace("0123", "0124")
        )
        runs = [
            import_commands.begin_import(
                self.application, "customers", "f.csv", io.BytesIO(text.encode()), "Ida"
            )
            for text in (CUSTOMERS, others, CUSTOMERS)
        ]
        for run in runs:
            self.assertTrue(import_commands.start(self.application, run.id, write=True))
        for run in runs:
            wait_for(
                lambda at=run.id: (
                    (job := self.application.jobs.find(import_commands.job_key(at))) and job.done
                )
            )
        with self.application.database.reading() as session:
            found = list(session.scalars(select(ImportRun).order_by(ImportRun.id)))
        self.assertEqual([run.state for run in found], ["done"] * 3)
        self.assertEqual(sum(run.created for run in found), 6)
        self.assertEqual(len(self.application.snapshot().people), 6)

    def test_a_file_without_rows_is_not_kept(self) -> None:
        with self.assertRaisesRegex(FileProblem, "no rows"):
            self.bring("customers", "id,email\n")
        self.assertEqual(list(import_files.folder(self.application).iterdir()), [])


class Orders(ImportCase):
    def setUp(self) -> None:
        super().setUp()
        self.bring("customers", CUSTOMERS)

    def test_rows_by_line_make_orders(self) -> None:
        self.assertEqual(self.counts(self.bring("orders", BY_LINE)), (3, 0, 0, 0))
        with self.application.database.reading() as session:
            orders = list(session.scalars(select(Order).order_by(Order.external_id)))
            lines = session.execute(
                select(OrderLine.quantity, OrderLine.total_minor).order_by(OrderLine.id)
            ).all()
        self.assertEqual([order.total_minor for order in orders], [7600, 101000, 1800])
        self.assertEqual(orders[0].placed_at, datetime(2026, 3, 2, 15, 15, tzinfo=UTC))
        self.assertEqual(orders[1].placed_at, datetime(2026, 3, 9, 19, 40, tzinfo=UTC))
        self.assertEqual(orders[2].cancelled_at, datetime(2026, 3, 9, 4, 0, tzinfo=UTC))
        self.assertEqual(sorted(lines), sorted([(1000, 5200), (2000, 101000), (1500, 2400), (1000, 1800)]))

    def test_a_second_time_nothing_changes_and_a_correction_does(self) -> None:
        self.bring("orders", BY_LINE)
        before = self.dump()
        self.assertEqual(self.counts(self.bring("orders", BY_LINE)), (0, 0, 3, 0))
        self.assertEqual(self.dump(), before)
        self.assertEqual(self.counts(self.bring("orders", BY_LINE.replace("24.00", "25.00"))), (0, 1, 2, 0))
        with self.application.database.reading() as session:
            self.assertEqual(
                session.scalar(select(func.sum(OrderLine.total_minor))), 5200 + 101000 + 2500 + 1800
            )

    def test_one_bad_line_refuses_its_whole_order(self) -> None:
        bad = BY_LINE + "2,C2,3/9/2026 15:40,Café,Cake,1,-5,paid\n9,C9,2026-01-01,Shop,Hay,1,18,paid\n"
        run = self.bring("orders", bad)
        self.assertEqual(self.counts(run), (2, 0, 0, 3))
        reasons = said_of_rows(run)
        self.assertIn("negative", reasons[6])
        self.assertIn("row 6 of the same order", reasons[3])
        self.assertIn("“C9” is the id of no customer on file", reasons[7])
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(OrderLine)), 3)

    def test_rows_by_order(self) -> None:
        text = (
            "order;email;date;total;refund\nA;ANN@example.com;31.12.2025;1.234,50;234,50\n"
            "B;bea@example.org;01.12.2025;10;\nA;bea@example.org;01.12.2025;1;\n"
        )
        run = self.bring("orders", text.replace("ANN", "Ann"))
        self.assertEqual(self.counts(run), (1, 0, 0, 2))
        with self.application.database.reading() as session:
            order = session.scalars(select(Order)).one()
        self.assertEqual(order.placed_at, datetime(2025, 12, 1, 5, tzinfo=UTC))

    def test_what_the_map_lacks_is_said(self) -> None:
        run = self.bring("orders", "order,customer id,total\n1,C1,5\n")
        self.assertEqual(run.state, "failed")
        self.assertIn("day or time", run.problem or "")
