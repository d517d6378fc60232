"""Files made or damaged so that reading them takes all memory or never ends: the program goes on."""

import io
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import files as import_files
from loyalbell.storage.files.tables import apart, workbooks
from loyalbell.storage.files.tables.apart import as_table_apart
from loyalbell.storage.files.tables.problems import FileProblem
from tests.support import ApplicationCase

FOLDER = Path(__file__).parent / "hostile"
# 30 February never comes: without a bound the search for it goes on to the year 9999, day by day
NEVER = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//made up//EN
BEGIN:VEVENT
UID:never
DTSTART:20260101T000000Z
RRULE:FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30
END:VEVENT
END:VCALENDAR
"""


class Hostile(ApplicationCase):
    def refused(self, name: str, content: bytes) -> str:
        with self.assertRaises(FileProblem) as caught:
            import_commands.begin_import(self.application, None, name, io.BytesIO(content), "Ida")
        self.assertEqual(list(import_files.folder(self.application).iterdir()), [])
        return str(caught.exception)

    def test_a_spreadsheet_that_unpacks_to_five_hundred_times_its_size(self) -> None:
        """Seen: 349 kB of XLSX filled 200 MB."""
        out, rows = io.BytesIO(), b"<row><c><v>1</v></c></row>" * 1_000
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
            pack.writestr("xl/workbook.xml", "<workbook/>")
            pack.writestr("xl/worksheets/sheet1.xml", rows * 4_000)
        self.assertLess(len(out.getvalue()), 349_000)
        self.assertIn("far more than tables of its size do", self.refused("book.xlsx", out.getvalue()))

    def test_a_damaged_workbook_that_wants_all_memory(self) -> None:
        """Read by the library in this process it ends the process: an allocation of many gigabytes aborts."""
        content = (FOLDER / "takes-all-memory.xls").read_bytes()
        self.assertIn("more memory or time", self.refused("book.xls", content))

    def test_a_calendar_that_never_comes_to_an_end(self) -> None:
        self.assertIn("repeats secondly", self.refused("never.ics", NEVER.encode()))

    def test_a_small_file_that_unpacks_to_gigabytes(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
            packed.writestr("xl/workbook.xml", b"")
            with packed.open("xl/worksheets/sheet1.xml", "w") as sheet:
                for _ in range(160):
                    sheet.write(b" " * 10_000_000)
        self.assertLess(len(out.getvalue()), 3_000_000)
        self.assertIn("far more than tables of its size", self.refused("bomb.xlsx", out.getvalue()))
        # nor where it packs as tables do
        with mock.patch.object(workbooks, "MOST_RATIO", 10_000), self.assertRaises(FileProblem) as caught:
            bomb = self.folder / "bomb.xlsx"
            bomb.write_bytes(out.getvalue())
            workbooks.Workbook(bomb)
        self.assertIn("too large", str(caught.exception))

    def test_what_takes_too_long_is_ended(self) -> None:
        source = self.folder / "cards.vcf"
        source.write_text("BEGIN:VCARD\nVERSION:3.0\nFN:Ann\nEND:VCARD\n" * 200_000, encoding="utf-8")
        usual, apart.MOST_SECONDS = apart.MOST_SECONDS, 1
        try:
            with self.assertRaisesRegex(FileProblem, "more memory or time"):
                as_table_apart(source, self.folder / "table", "customers", "UTC")
        finally:
            apart.MOST_SECONDS = usual
        self.assertEqual([path.name for path in self.folder.glob("table*")], [])


if __name__ == "__main__":
    unittest.main()
