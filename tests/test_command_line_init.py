"""A book from the command line: opened whole, or not at all."""

import unittest
from unittest import mock

from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.services.accounts.sessions import check_password
from loyalbell.services.application import Application
from loyalbell.storage.database import BOOK_FILE
from tests.support import scratch_folder

SHOP = {
    "name": "Mill Row",
    "zone": "Europe/London",
    "currency": "gbp",
    "country": "gb",
    "email": "Ida@shop.example",
}


class InitTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = scratch_folder(self) / "shop"

    def run_it(self, **changed: str) -> tuple[int, str]:
        options = [word for name, value in (SHOP | changed).items() for word in (f"--{name}", value)]
        result = CliRunner().invoke(app, ["init", "--data", str(self.folder), *options])
        return result.exit_code, result.output

    def test_it_opens_a_book_that_one_can_sign_in_to_and_import_into(self) -> None:
        with mock.patch.dict("os.environ", {"LOYALBELL_PASSWORD": "a long password"}):
            code, said = self.run_it()
        self.assertEqual(code, 0, said)
        application = Application(self.folder)
        self.addCleanup(application.close)
        shop = application.the_shop()
        self.assertEqual(
            (shop.name, shop.zone, shop.currency, shop.country), ("Mill Row", "Europe/London", "GBP", "GB")
        )
        self.assertIsNotNone(check_password(application, "ida@shop.example", "a long password"))
        code, said = self.run_it()
        self.assertEqual(code, 1)
        self.assertIn("There is a book in", said)

    def test_a_password_is_made_and_shown_where_nobody_can_be_asked(self) -> None:
        code, said = self.run_it()
        self.assertEqual(code, 0, said)
        password = said.split("only now: ")[1].split()[0]
        application = Application(self.folder)
        self.addCleanup(application.close)
        self.assertIsNotNone(check_password(application, "ida@shop.example", password))

    def test_what_is_wrong_is_said_and_no_book_is_left(self) -> None:
        for changed, words in (
            ({"zone": "London"}, "is not a time zone"),
            ({"currency": "pounds"}, "is not a currency code"),
            ({"country": "UK and more"}, "two-letter code"),
            ({"email": "ida"}, "is not an email address"),
        ):
            with self.subTest(words):
                code, said = self.run_it(**changed)
                self.assertEqual(code, 1)
                self.assertIn(words, said)
                self.assertFalse((self.folder / BOOK_FILE).exists())

    def test_without_a_book_an_import_says_how_to_make_one(self) -> None:
        file = scratch_folder(self) / "people.csv"
        file.write_text("Email\na@example.com\n")
        result = CliRunner().invoke(app, ["import", "customers", str(file), "--data", str(self.folder)])
        self.assertEqual(result.exit_code, 1)
        self.assertIn("loyalbell init", result.output)
