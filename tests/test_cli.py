import json
import tempfile
import unittest
from pathlib import Path

from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.desk.desk import Desk
from loyalbell.desk.setting_up import open_shop
from tests.books import SHOP


class ImportCommand(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name) / "data"
        desk = Desk(self.data)
        open_shop(desk, SHOP, "Ida", "ida@shop.example", "a long password")
        desk.close()
        self.file = Path(folder.name) / "customers.csv"
        self.file.write_text("id,email\n1,a@example.com\n2,bad\n")

    def run_it(self, *more: str) -> tuple[int, str]:
        result = CliRunner().invoke(
            app, ["import", "customers", str(self.file), "--data", str(self.data), *more]
        )
        return result.exit_code, result.output

    def test_dry_run_then_import(self) -> None:
        code, out = self.run_it("--dry-run", "--json")
        self.assertEqual((code, json.loads(out)["created"], json.loads(out)["dry_run"]), (0, 1, True))
        self.assertEqual(json.loads(self.run_it("--json")[1])["created"], 1)
        again = json.loads(self.run_it("--json")[1])
        self.assertEqual((again["created"], again["unchanged"], again["refused"]), (0, 1, 1))
        self.assertEqual(again["reasons"][0]["row"], 3)
        self.assertIn("bad", Path(again["refused_file"]).read_text())

    def test_mistakes_are_said_plainly(self) -> None:
        self.file.write_text("")
        code, out = self.run_it()
        self.assertEqual(code, 1)
        self.assertIn("empty", out)
        result = CliRunner().invoke(
            app, ["import", "customers", str(self.file), "--data", str(self.data / "none")]
        )
        self.assertIn("There is no book", result.output)
