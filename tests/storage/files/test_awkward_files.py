"""Exports as shops have them, each with the people, orders or appointments that a person would read in it.

The files are made up (``scripts/make_awkward_files.py``); what they hold is written down by hand here.
"""

import unittest
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import mapping as import_mapping
from loyalbell.services.imports.questions import open_questions
from loyalbell.storage.schema import (
    Appointment,
    ConsentEntry,
    ExternalId,
    ImportRun,
    Item,
    Order,
    OrderLine,
    Person,
    Shop,
)
from tests.storage.files.test_export import out
from tests.support import ApplicationCase, said_of_rows

FOLDER = Path(__file__).parent / "awkward"
ANN, BO = ("Ann", "Pell", "ann@example.com"), ("Bo", "Lisle", "bo@example.org")
GERMAN = ("DE", "EUR", "Europe/Berlin")
JAPANESE = ("JP", "JPY", "Asia/Tokyo")
NEW_YORK = ZoneInfo("America/New_York")

PEOPLE: dict[str, tuple[tuple[str, str, str], list[tuple[str | None, ...]]]] = {
    "title-rows.csv": ((), [ANN, BO]),
    "two-heading-rows.csv": ((), [ANN, BO]),
    "separator-line.csv": ((), [ANN]),
    "duplicate-headings.csv": ((), [("Ann", None, "ann@example.com")]),
    "utf-16-without-mark.csv": ((), [("Zoë", "Pell", "zoe@example.com")]),
    "utf-16-big.csv": ((), [("Zoë", "Pell", "zoe@example.com")]),
    "shift-jis.csv": (
        JAPANESE,
        [("太郎", "山田", "taro@example.jp"), ("花子", "鈴木", "hana@example.jp")],
    ),
    "windows-western.csv": (GERMAN, [("Jürgen", "Groß", "juergen@example.de")]),
    "windows-central.csv": (
        ("PL", "PLN", "Europe/Warsaw"),
        [("Łukasz", "Wójcik", "lukasz@example.pl"), ("Świętosław", "Żak", "zak@example.pl")],
    ),
    "cyrillic.csv": (
        (),
        [
            ("Анна", "Петрова", "anna@example.com"),
            ("Иван", "Сидоров", "ivan@example.com"),
            ("Мария", "Смирнова", "maria@example.com"),
        ],
    ),
    "page-as-spreadsheet.xls": ((), [ANN, BO]),
    "read-me-sheet-first.xlsx": ((), [ANN, BO]),
    "old-workbook.xls": ((), [ANN, BO]),
    "open-document.ods": ((), [ANN, BO]),
    "junk-blanks.csv": ((), [("Ann", None, None), ("Bo", None, "bo@example.org"), ("Cleo", None, None)]),
    "two-emails-in-a-cell.csv": ((), [("Ann", None, "ann@example.com"), ("Bo", None, "bo@example.org")]),
    "english-abbreviations.csv": (
        ("GB", "GBP", "Europe/London"),
        [("Ann", "Pell", None), ("Bo", "van der Lisle", None)],
    ),
    "german.csv": (GERMAN, [("Jürgen", "Groß", "juergen@example.de")]),
    "spanish.csv": (("ES", "EUR", "Europe/Madrid"), [("Lucía", "García López", "lucia@example.es")]),
    "french.csv": (
        ("FR", "EUR", "Europe/Paris"),
        [("Hélène", "Lefèvre", "helene@example.fr"), ("Luc", "Petit", "luc@example.fr")],
    ),
    "last-first.csv": ((), [("Ann", "Pell", None), ("Bo", "van der Lisle", None)]),
    "titles.csv": ((), [("Ann", "Pell", "ann@example.com"), (None, "Lisle", "bo@example.org")]),
    "one-bad-cell.csv": ((), [("Ann", None, "ann@example.com"), ("Bo", None, None)]),
    "one-card-is-bad.vcf": ((), [ANN, ("Bo", "Lisle", None)]),
    "old-card.vcf": (GERMAN, [("Jürgen", "Groß", "juergen@example.de")]),
    "external-id.csv": ((), [(None, None, "ann@example.com")]),
}
# minor units, and (quantity in thousandths, minor units) of the lines
ORDERS: dict[str, tuple[tuple[str, str, str], dict[str, tuple[str, int, list[tuple[int, int]]]]]] = {
    "units-below-headings.csv": (
        GERMAN,
        {"R1": ("2025-12-31 00:00", 123450, []), "R2": ("2026-01-02 00:00", 1000, [])},
    ),
    "serial-dates.csv": ((), {"A": ("2025-12-31 00:00", 1250, []), "B": ("2025-12-31 12:00", 300, [])}),
    "short-months.csv": ((), {"A": ("2026-05-13 00:00", 1250, []), "B": ("2026-05-14 14:30", 300, [])}),
    "unit-price-and-amount.csv": ((), {"R1": ("2026-05-12 09:40", 3200, [(2000, 2000), (3000, 1200)])}),
    "price-and-quantity.csv": ((), {"R1": ("2026-05-12 00:00", 3000, [(3000, 3000)])}),
    "line-discounts.csv": ((), {"R1": ("2026-05-12 00:00", 2780, [(3000, 2500), (1000, 280)])}),
    "nothing-and-a-half.csv": ((), {"R1": ("2026-05-12 00:00", 1090, [(0, 490), (500, 600)])}),
    "german-till.csv": (GERMAN, {"B1": ("2026-05-12 09:40", 250600, [(2000, 250000), (1500, 600)])}),
    "swiss-amounts.csv": (
        ("CH", "CHF", "Europe/Zurich"),
        {"A": ("2026-05-12 00:00", 123450, []), "B": ("2026-05-12 00:00", 1200, [])},
    ),
    "yen.csv": (JAPANESE, {"N1": ("2026-05-12 00:00", 2400, [(2000, 2400)])}),
    "day-and-time.xlsx": ((), {"R1": ("2026-05-12 09:40", 1250, []), "R2": ("2026-05-12 15:05", 300, [])}),
}


class AwkwardCase(ApplicationCase):
    def of(self, place: tuple[str, ...]) -> None:
        """Makes the shop one of a country, with its currency and zone."""
        if place:
            with self.application.database.transaction() as session:
                shop = session.get_one(Shop, 1)
                shop.country, shop.currency, shop.zone = place

    def begin(self, name: str, kind: str | None = None) -> ImportRun:
        with (FOLDER / name).open("rb") as file:
            return import_commands.begin_import(self.application, kind, name, file, "Ida")

    def finish(self, run: ImportRun) -> ImportRun:
        import_commands.carry_out(self.application, run.id, True, lambda share, words: None)
        return self.again(run)

    def again(self, run: ImportRun) -> ImportRun:
        with self.application.database.reading() as session:
            found = session.get_one(ImportRun, run.id)
        self.assertIsNone(found.problem)
        return found

    def bring(self, name: str, kind: str | None = None) -> ImportRun:
        return self.finish(self.begin(name, kind))

    def people(self, *facts: str) -> list[tuple[Any, ...]]:
        with self.application.database.reading() as session:
            rows = session.scalars(select(Person).order_by(Person.id)).all()
        return [tuple(getattr(person, fact) for fact in facts) for person in rows]

    def customers(self, *ids: str) -> None:
        """Customers on file under these ids."""
        for number, external in enumerate(ids):
            person = self.add_person(f"c{number}@example.net")
            with self.application.database.transaction() as session:
                session.add(ExternalId(source="import", value=external, person_id=person))


def of_people(name: str) -> Any:
    def test(self: AwkwardCase) -> None:
        place, expected = PEOPLE[name]
        self.of(place)
        run = self.bring(name)
        self.assertEqual((run.kind, run.refused), ("customers", 0), run.problems)
        self.assertEqual(self.people("first_name", "last_name", "email"), expected)

    return test


def of_orders(name: str) -> Any:
    def test(self: AwkwardCase) -> None:
        place, expected = ORDERS[name]
        self.of(place)
        self.customers("C1", "C2")
        run = self.bring(name)
        self.assertEqual((run.kind, run.refused), ("orders", 0), run.problems)
        zone = ZoneInfo(self.application.the_shop().zone)
        with self.application.database.reading() as session:
            found = {
                order.external_id: (
                    f"{order.placed_at.astimezone(zone):%Y-%m-%d %H:%M}",
                    order.total_minor,
                    session.execute(
                        select(OrderLine.quantity, OrderLine.total_minor)
                        .where(OrderLine.order_id == order.id)
                        .order_by(OrderLine.id)
                    ).all(),
                )
                for order in session.scalars(select(Order))
            }
        self.assertEqual(found, expected)
        self.assertEqual(run.found["total"], sum(order[1] for order in expected.values()))

    return test


class People(AwkwardCase):
    """Each file of customers: recognised, and everybody in it on file."""


class Orders(AwkwardCase):
    """Each file of orders: recognised, its times and its money to the cent."""


for case, maker, table in ((People, of_people, PEOPLE), (Orders, of_orders, ORDERS)):
    for file_name in table:
        setattr(case, "test_" + file_name.replace("-", "_").replace(".", "_"), maker(file_name))


class MoreOfThem(AwkwardCase):
    """What else those files say, and what they leave to a person."""

    def test_every_file_is_tried(self) -> None:
        named = {*PEOPLE, *ORDERS}
        text = Path(__file__).read_text(encoding="utf-8")
        for path in FOLDER.iterdir():
            self.assertTrue(path.name in named or text.count(f'"{path.name}"') > 0, path.name)
        self.assertGreaterEqual(len(list(FOLDER.iterdir())), 40)

    def test_a_file_without_headings_is_asked_about_and_read(self) -> None:
        run = self.begin("no-headings.csv", "customers")
        self.assertEqual(
            import_mapping.column_map(run, ("Column 1", "Column 2", "Column 3", "Column 4")).columns,
            {
                "email": 2,
                "phone": 3,
            },
        )
        self.assertEqual(self.finish(run).created, 2)

    def test_consents_of_two_heading_rows(self) -> None:
        self.bring("two-heading-rows.csv")
        self.assertEqual(self.people("phone"), [("+12125550100",), (None,)])
        with self.application.database.reading() as session:
            said = session.execute(
                select(ConsentEntry.person_id, ConsentEntry.channel, ConsentEntry.state)
            ).all()
        self.assertEqual(
            sorted(said),
            [(1, "email", "agreed"), (1, "text", "refused"), (2, "email", "refused"), (2, "text", "refused")],
        )

    def test_birthdays_and_phones_of_many_places(self) -> None:
        born = ("birthday_year", "birthday_month", "birthday_day", "phone")
        for name, place, expected in (
            ("shift-jis.csv", JAPANESE, [(1990, 2, 28, "+819012345678"), (1985, 11, 3, "+818023456789")]),
            ("german.csv", GERMAN, [(1951, 2, 24, "+4915123456789")]),
            ("spanish.csv", ("ES", "EUR", "Europe/Madrid"), [(1990, 5, 3, "+34612345678")]),
            ("french.csv", ("FR", "EUR", "Europe/Paris"), [(1988, 3, 1, "+33612345678"), (None,) * 4]),
            (
                "english-abbreviations.csv",
                ("US", "USD", "America/New_York"),
                [(1951, 2, 24, "+12125550100"), (1985, 11, 13, None)],
            ),
            ("old-card.vcf", GERMAN, [(1951, 2, 24, "+4915123456789")]),
        ):
            with self.subTest(name):
                self.of(place)
                before = len(self.people("id"))
                self.bring(name)
                # whoever two of the files name by one id or address is one person
                self.assertEqual(set(expected) - set(self.people(*born)), set(), before)

    def test_names_are_shown_as_they_are_written(self) -> None:
        self.of(JAPANESE)
        self.bring("shift-jis.csv")
        self.assertEqual(self.people("name"), [("山田 太郎",), ("鈴木 花子",)])

    def test_numbers_that_nobody_has(self) -> None:
        self.of(("GB", "GBP", "Europe/London"))
        run = self.bring("short-phones.csv")
        self.assertEqual((run.created, run.refused, run.left_out), (4, 0, 2))
        self.assertEqual(self.people("phone"), [(None,), (None,), ("+447700900123",), ("+442079460123",)])

    def test_a_bad_cell_leaves_its_person_in_and_is_listed(self) -> None:
        run = self.bring("one-bad-cell.csv")
        self.assertEqual((run.created, run.refused, run.left_out), (2, 0, 2))
        said = said_of_rows(run)
        self.assertIn("“31/31/2020” is not a date", said[2])
        self.assertIn("“not an address” is not an email address", said[3])

    def test_totals_that_differ_are_asked_about(self) -> None:
        self.customers("C1", "C2")
        run = self.begin("totals-differ.csv")
        import_commands.carry_out(self.application, run.id, False, lambda share, words: None)
        run = self.again(run)
        self.assertEqual(open_questions(run), ["totals"])
        facts = {"compared": 2, "differ": 1, "own_sum": 2800, "line_sum": 3280, "example": ["R1", 2800, 3280]}
        self.assertEqual({name: run.found[name] for name in facts}, facts)
        for totals_of, total in (("file", 2800 + 280), ("lines", 3280 + 280)):
            import_mapping.change_map(self.application, run.id, totals_of=totals_of)
            self.assertEqual(self.finish(run).found["total"], total)
            import_commands.undo_import(self.application, run.id, "Ida")

    def test_orders_make_their_customers_where_that_is_said(self) -> None:
        run = self.begin("orders-without-customers.csv")
        self.assertEqual(run.kind, "orders")
        import_commands.carry_out(self.application, run.id, False, lambda share, words: None)
        self.assertEqual(self.again(run).refused, 3)
        import_mapping.change_map(self.application, run.id, make_people=True)
        run = self.finish(run)
        self.assertEqual((run.created, run.refused, run.found["people_made"]), (3, 0, 2))
        self.assertEqual(
            self.people("first_name", "last_name", "email"),
            [("Cleo", "Marsh", "cleo@example.com"), ("Ann", "Pell", "ann@example.com")],
        )
        with self.application.database.reading() as session:
            self.assertEqual(session.scalars(select(ConsentEntry)).all(), [])
        import_commands.undo_import(self.application, run.id, "Ida")
        self.assertEqual(self.people("id"), [])

    def test_statuses_of_another_language(self) -> None:
        self.customers("C1", "C2")
        run = self.bring("statuses-in-german.csv")
        self.assertEqual((run.created, run.refused), (2, 1))
        self.assertEqual(run.problems[0]["values"], [["irgendwas", 1]])
        with self.application.database.reading() as session:
            delivered, cancelled = session.scalars(select(Order).order_by(Order.external_id))
        self.assertIsNotNone(delivered.delivered_at)
        self.assertIsNotNone(cancelled.cancelled_at)

    def test_a_summary_is_kept_apart_from_orders(self) -> None:
        self.bring("only-a-summary.csv")
        midnight = datetime(2026, 3, 2, tzinfo=NEW_YORK).astimezone(UTC)
        self.assertEqual(
            self.people("before_orders", "before_minor", "before_last_at")[0], (12, 34050, midnight)
        )
        self.assertEqual(len(self.application.snapshot().orders), 0)
        text = out(self.application, "customers")
        again = import_commands.begin_import(self.application, None, "out.csv", BytesIO(text.encode()), "Ida")
        self.assertEqual(again.kind, "customers")
        self.assertEqual(self.finish(again).unchanged, 2)
        self.assertEqual(out(self.application, "customers"), text)

    def test_agreed_on_a_day_of_the_file(self) -> None:
        run = self.begin("agreed-on.csv")
        import_mapping.change_map(
            self.application, run.id, agreed={"since": "column", "day": "", "wording": "card"}
        )
        self.finish(run)
        with self.application.database.reading() as session:
            said = session.execute(select(ConsentEntry.state, ConsentEntry.at, ConsentEntry.wording)).all()
        self.assertEqual(said[0], ("agreed", datetime(2024, 3, 2, 5, tzinfo=UTC), "card"))
        self.assertEqual(said[1][0], "refused")

    def test_lines_with_an_amount(self) -> None:
        person = self.add_person("ann@example.com")
        with self.application.database.transaction() as session:
            session.add(
                Order(
                    person_id=person,
                    placed_at=datetime(2026, 5, 1, tzinfo=UTC),
                    total_minor=2680,
                    currency="USD",
                    external_id="O1",
                )
            )
        run = self.bring("lines-with-amount.csv", "order-lines")
        self.assertEqual((run.created, run.refused), (2, 0))
        with self.application.database.reading() as session:
            self.assertEqual(sorted(session.scalars(select(Item.name))), ["Scone", "Teapot"])
            self.assertEqual(sorted(session.scalars(select(OrderLine.total_minor))), [280, 2400])

    def test_a_moved_appointment_is_one_appointment(self) -> None:
        """RFC 5545, 3.8.4.4: an exception is of the series' time that its RECURRENCE-ID names, in whatever
        zone it names it; 3.8.5.2: RDATE adds a time.
        """
        self.add_person("ann@example.com")
        run = self.bring("moved-appointment.ics")
        self.assertEqual((run.kind, run.refused), ("appointments", 0))
        with self.application.database.reading() as session:
            found = {
                (f"{one.starts_at.astimezone(NEW_YORK):%m-%d %H:%M}", one.state)
                for one in session.scalars(select(Appointment))
            }
        self.assertEqual(
            found,
            {
                ("05-05 11:00", "booked"),
                ("05-07 09:00", "booked"),
                ("05-11 09:00", "booked"),
                ("05-18 09:00", "cancelled"),
                ("05-25 09:00", "booked"),
            },
        )

    def test_moving_the_first_of_a_series_leaves_no_ghost(self) -> None:
        self.add_person("ann@example.com")
        text = (FOLDER / "moved-appointment.ics").read_text(encoding="utf-8")
        begin = text.index("BEGIN:VEVENT", text.index("BEGIN:VEVENT") + 1)
        unmoved = text[:begin] + "END:VCALENDAR\n"
        first = import_commands.begin_import(
            self.application, None, "a.ics", BytesIO(unmoved.encode()), "Ida"
        )
        self.finish(first)
        run = self.bring("moved-appointment.ics")
        self.assertEqual((run.created, run.changed, run.unchanged), (0, 1, 4))


if __name__ == "__main__":
    unittest.main()
