import json
import shutil
import tempfile
import unittest
from pathlib import Path

from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.demo.build import build_demo
from loyalbell.services.application import Application
from loyalbell.services.settings.shop import open_shop
from tests.support import SHOP


class ImportCommand(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name) / "data"
        application = Application(self.data)
        open_shop(application, SHOP, "Ida", "ida@shop.example", "a long password")
        application.close()
        self.file = Path(folder.name) / "customers.csv"
        self.file.write_text("id,email\n1,a@example.com\n2,bad\n")

    def run_it(self, *more: str) -> tuple[int, str]:
        result = CliRunner().invoke(
            app, ["import", "customers", str(self.file), "--data", str(self.data), *more]
        )
        return result.exit_code, result.output

    def test_dry_run_then_import(self) -> None:
        code, out = self.run_it("--dry-run", "--json")
        self.assertEqual((code, json.loads(out)["created"], json.loads(out)["dry_run"]), (0, 2, True))
        self.assertEqual(json.loads(self.run_it("--json")[1])["created"], 2)
        again = json.loads(self.run_it("--json")[1])
        self.assertEqual((again["created"], again["unchanged"], again["left_out"]), (0, 2, 1))
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


class TextsAndMessages(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        build_demo(cls.folder / "data", people=60).close()

    @classmethod
    def tearDownClass(cls) -> None:
        shutil.rmtree(cls.folder, ignore_errors=True)

    def run_it(self, *words: str) -> tuple[int, str]:
        result = CliRunner().invoke(app, list(words))
        return result.exit_code, result.output

    def file(self, name: str, text: str) -> str:
        path = self.folder / name
        path.write_text(text, encoding="utf-8")
        return str(path)

    def test_parts_of_texts(self) -> None:
        lines = self.file("a.jsonl", '{"text": "Hi"}\n\n{"text": "' + "ж" * 71 + '"}\n')
        code, out = self.run_it("text", "parts", lines, "--json")
        self.assertEqual(code, 0)
        self.assertEqual(
            [json.loads(line) for line in out.splitlines()],
            [
                {"encoding": "GSM-7", "parts": 1, "units": 2, "units_per_part": 160},
                {"encoding": "UCS-2", "parts": 2, "units": 71, "units_per_part": 67},
            ],
        )
        self.assertIn("line 1", self.run_it("text", "parts", self.file("b.jsonl", "{}"))[1])

    def test_a_message_is_checked_and_rendered(self) -> None:
        data = str(self.folder / "data")
        letter = {
            "channel": "email",
            "subject": "Hi {{ first_name }}",
            "preview": "p",
            "letterhead": 1,
            "blocks": [{"kind": "text", "text": "Come by"}],
        }
        good = self.file("good.json", json.dumps({"version": 2, "writings": [letter]}))
        code, out = self.run_it("message", "check", good, "--data", data, "--json")
        self.assertEqual((code, json.loads(out)["blocked"]), (0, False))
        code, out = self.run_it("message", "render", good, "--data", data, "--as", "1", "--json")
        self.assertIn("Come by", json.loads(out)["email"]["text"])
        self.assertIn(
            "withheld",
            json.loads(self.run_it("message", "render", good, "--data", data, "--json")[1])["email"],
        )
        bad = self.file("bad.json", json.dumps({"version": 2, "writings": [letter | {"subject": ""}]}))
        code, out = self.run_it("message", "check", bad, "--data", data)
        self.assertEqual((code, "There is no subject" in out), (1, True))
        for text, words in (
            ("{", "not JSON"),
            ('{"version": 9}', "newer"),
            ('{"version": 2, "writings": [{"channel": "x"}]}', "writings"),
        ):
            code, out = self.run_it("message", "check", self.file("c.json", text), "--data", data)
            self.assertEqual((code, words in out), (1, True), out)
        for what in ("segment", "message", "offer"):
            self.assertIn("properties", json.loads(self.run_it("schema", what)[1]))
