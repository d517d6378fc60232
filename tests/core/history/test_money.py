import unittest

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.money import minor_digits, parse_money, say_money


class Money(unittest.TestCase):
    def test_amounts_as_people_write_them(self) -> None:
        cases = {
            "1,234.50": 123450,
            "1.234,50": 123450,
            "$12": 1200,
            "(3.20)": -320,
            "1,234": 123400,
            "12,5": 1250,
            "1 234,00 €": 123400,
            "1,234,567": 123456700,
            ".5": 50,
            "-0.07": -7,
        }
        for text, minor in cases.items():
            with self.subTest(text=text):
                self.assertEqual(parse_money(text, 2), minor)

    def test_amounts_as_japanese_and_korean_files_hold_them(self) -> None:
        """0x5C is the yen sign in Shift-JIS and the won sign in KS X 1003 (JIS X 0201; Unicode keeps it as a
        backslash); △ for what is owed: common practice, no source.
        """
        cases = {
            "\\12,000": 12000,
            "¥800": 800,
            "1,200円": 1200,
            "-\\500": -500,
            "△500": -500,
            "▲1,200": -1200,
        }
        for text, minor in cases.items():
            with self.subTest(text=text):
                self.assertEqual(parse_money(text, 0), minor)

    def test_what_is_no_amount_is_refused(self) -> None:
        for text in ("", "abc", "1.234", "1,2,3", "--5", "12..5", "=1+1", "\\", "5△5"):
            with self.subTest(text=text), self.assertRaises(ValueError):
                parse_money(text, 2)

    def test_decimals_by_currency(self) -> None:
        """Source: ISO 4217 minor units, as CLDR in the package babel gives them."""
        self.assertEqual([minor_digits(code) for code in ("USD", "JPY", "KWD", "EUR")], [2, 0, 3, 2])

    def test_amounts_as_countries_write_them(self) -> None:
        """Source: CLDR, through babel; what an English reader sees in each country."""
        cases = {
            ("US", "USD"): ("$1,234.50", "$1,234"),
            ("GB", "GBP"): ("£1,234.50", "£1,234"),
            ("DE", "EUR"): ("1.234,50\u00a0€", "1.234\u00a0€"),
            ("CH", "CHF"): ("CHF\u00a01’234.50", "CHF\u00a01’234"),
            ("JP", "JPY"): ("¥123,450", "¥123,450"),
            ("XX", "USD"): ("$1,234.50", "$1,234"),
        }
        for (country, currency), (whole, round_) in cases.items():
            self.assertEqual(say_money(123450, currency, country=country), whole)
            self.assertEqual(say_money(123450, currency, True, country), round_)

    @given(st.integers(-(10**12), 10**12))
    def test_what_is_said_reads_back(self, minor: int) -> None:
        self.assertEqual(parse_money(say_money(minor, "USD"), 2), minor)
