"""Reading cells: dates in every style, phones, emails, and the guess at what columns mean."""

import unittest
from datetime import UTC, datetime, time

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.clock.local_time import at_local
from loyalbell.storage.files.columns.column_guess import guess_map
from loyalbell.storage.files.columns.column_mapping import map_problem
from loyalbell.storage.files.columns.file_targets import TARGETS
from loyalbell.storage.records.date_cells import Birthday, When, looks_day_first
from loyalbell.storage.records.parsers import Bad, Email, Money, Phone, Quantity, Text, YesNo

ZONE = "America/New_York"


def said(seconds: object) -> datetime:
    assert isinstance(seconds, int), seconds
    return datetime.fromtimestamp(seconds, UTC)


class Dates(unittest.TestCase):
    def test_three_styles_and_more(self) -> None:
        noon = datetime(2026, 5, 12, 16, 0, tzinfo=UTC)
        for text in (
            "2026-05-12 12:00",
            "2026-05-12T12:00:00",
            "2026-05-12T12:00:00-04:00",
            "2026-05-12T16:00:00Z",
            "5/12/2026 12:00",
            "5/12/26 12:00 pm",
            "05-12-2026 12:00:00",
            "2026/5/12 12:00",
        ):
            with self.subTest(text):
                self.assertEqual(said(When(ZONE, day_first=False)[text]), noon)
        midnight = datetime(2026, 5, 12, 4, tzinfo=UTC)
        for text in (
            "12.5.2026",
            "12/05/2026",
            "12 May 2026",
            "12th May, 2026",
            "May 12 2026",
            "2026-05-12",
            "20260512",
        ):
            with self.subTest(text):
                self.assertEqual(said(When(ZONE, day_first=True)[text]), midnight)

    def test_what_is_no_date_says_how_to_write_one(self) -> None:
        for text in ("soon", "31/31/2026", "2026-02-30", "5/12", "0026-05-12", "9999-12-31", "12:00"):
            with self.subTest(text):
                found = When(ZONE, day_first=False)[text]
                self.assertIsInstance(found, Bad)

    @given(
        st.datetimes(datetime(1950, 1, 1), datetime(2037, 1, 1)),
        st.sampled_from((ZONE, "Europe/London", "Australia/Lord_Howe")),
    )
    def test_the_quick_way_agrees_with_the_zone_at_every_minute(self, moment: datetime, zone: str) -> None:
        """Days with a clock change are asked of the zone; all others are counted from their start."""
        moment = moment.replace(microsecond=0)
        reader = When(zone, day_first=False)
        self.assertIsInstance(reader[moment.replace(hour=12).isoformat()], int)
        read = reader[moment.isoformat()]
        self.assertEqual(read, int(at_local(moment.date(), moment.time(), zone).timestamp()))

    def test_clock_changes(self) -> None:
        """Source: IANA time zone database, America/New_York in 2026 (8 March, 1 November)."""
        when = When(ZONE, day_first=False)
        self.assertEqual(said(when["2026-03-08 02:30"]), datetime(2026, 3, 8, 7, tzinfo=UTC))
        self.assertEqual(said(when["2026-03-08 12:00"]), datetime(2026, 3, 8, 16, tzinfo=UTC))
        self.assertEqual(said(when["2026-11-01 01:30"]), datetime(2026, 11, 1, 5, 30, tzinfo=UTC))

    def test_birthdays_with_and_without_a_year(self) -> None:
        read = Birthday(day_first=False)
        self.assertEqual(read["2/29/1992"], (1992, 2, 29))
        self.assertEqual(read["02-29"], (None, 2, 29))
        self.assertEqual(read["--12-24"], (None, 12, 24))
        self.assertEqual(read["24 December"], (None, 12, 24))
        self.assertEqual(Birthday(day_first=True)["24.12"], (None, 12, 24))
        self.assertIsInstance(read["2/29/1991"], Bad)

    def test_the_order_of_day_and_month_is_seen_in_the_file(self) -> None:
        self.assertTrue(looks_day_first(["1/2/2026", "13/2/2026"], otherwise=False))
        self.assertFalse(looks_day_first(["1/2/2026", "2/13/2026"], otherwise=True))
        self.assertTrue(looks_day_first(["1/2/2026"], otherwise=True))


class OtherCells(unittest.TestCase):
    def test_phones(self) -> None:
        """Source: the ITU's E.164.

        Numbers 555-0100 to 555-0199 are kept for fiction by the North American plan.
        """
        read = Phone("US")
        for text in ("(212) 555-0100", "212.555.0100", "+1 212 555 0100", "1-212-555-0100"):
            self.assertEqual(read[text], "+12125550100")
        self.assertEqual(Phone("GB")["020 7946 0123"], "+442079460123")
        for text in ("555", "abc", "+999 1234567", "1" * 40):
            self.assertIsInstance(read[text], Bad, text)

    def test_emails(self) -> None:
        read = Email()
        self.assertEqual(read["Ann.Pell@EXAMPLE.com"], "Ann.Pell@example.com")
        self.assertEqual(read["jørgen@example.com"], "jørgen@example.com")
        for text in ("ann", "a@b", "a b@example.com", "a@-x.com"):
            self.assertIsInstance(read[text], Bad, text)

    def test_amounts_and_quantities(self) -> None:
        self.assertIn("refund", Money(2)["-5.00"].reason)
        self.assertIn("too large", Money(2)["9" * 15].reason)
        self.assertEqual(Quantity()["1.25"], 1250)
        self.assertEqual(Quantity()["0"], 0)  # a till writes it for a charge
        for text in ("-1", "many", "1.2345"):
            self.assertIsInstance(Quantity()[text], Bad, text)

    def test_blank_cells_say_nothing_and_others_are_kept_as_written(self) -> None:
        for reader in (Text(), Email(), Money(2), When(ZONE, False), YesNo()):
            self.assertIsNone(reader["  "])
        self.assertEqual(Text()["'=1+1"], "=1+1")
        self.assertEqual(Text()["a\x00b\u200b🐕"], "ab🐕")
        self.assertIsInstance(Text()["x" * 2_001], Bad)

    def test_yes_and_no(self) -> None:
        self.assertEqual(
            [YesNo()[text] for text in ("Yes", "TRUE", "1", "no", "Unsubscribed")],
            [True, True, True, False, False],
        )
        self.assertIsInstance(YesNo()["perhaps"], Bad)


class Maps(unittest.TestCase):
    def test_headings_of_many_programs(self) -> None:
        cases = {
            "customers": [
                "CustomerID",
                "First Name",
                "surname",
                "E-mail Address",
                "Mobile",
                "DOB",
                "Zip Code",
                "opt",
            ],
            "orders": [
                "Order No.",
                "customer_email",
                "Order Date",
                "Dept",
                "SKU",
                "Qty",
                "Line Total",
                "Order Total",
            ],
        }
        expected = {
            "customers": {
                "id": 0,
                "first_name": 1,
                "last_name": 2,
                "email": 3,
                "phone": 4,
                "birthday": 5,
                "postal_code": 6,
            },
            "orders": {
                "order_id": 0,
                "email": 1,
                "placed": 2,
                "department": 3,
                "item_id": 4,
                "quantity": 5,
                "line_total": 6,
                "total": 7,
            },
        }
        for kind, headings in cases.items():
            guess = guess_map(kind, headings, [], ZONE, "US")
            self.assertEqual(dict(guess.columns), expected[kind])
            self.assertIsNone(map_problem(kind, guess.columns))

    def test_no_two_targets_go_by_one_name(self) -> None:
        for kind, targets in TARGETS.items():
            whole = [target for target in targets if target.reads != "time of day"]  # beside a day only
            names = [name for target in whole for name in target.names]
            self.assertEqual(len(names), len(set(names)), kind)

    def test_what_is_lacking_is_named_one_at_a_time(self) -> None:
        columns = {"order_id": 0, "customer_id": 1, "placed": 2, "total": 3}
        for missing, words in (
            ("order_id", "order id"),
            ("customer_id", "whose order"),
            ("placed", "day or time"),
            ("total", "total"),
        ):
            left = {name: at for name, at in columns.items() if name != missing}
            self.assertIn(words, map_problem("orders", left) or "")
        self.assertIn("one of them is needed", map_problem("customers", {"first_name": 0}) or "")

    def test_a_start_of_day_is_meant_by_a_plain_day(self) -> None:
        day = datetime(2026, 3, 8).date()
        self.assertEqual(When(ZONE, False)["2026-03-08"], int(at_local(day, time(), ZONE).timestamp()))
