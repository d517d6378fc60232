import codecs
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.storage.files.import_outcome import guarded
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.table_reader import read_rows, shape_of
from loyalbell.storage.records.parsers import plain_cell


class TableFiles(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "file.csv"

    def rows(self, content: bytes) -> list[list[str]]:
        self.path.write_bytes(content)
        shape = shape_of(self.path)
        with self.path.open("rb") as file:
            return [list(shape.headings), *(cells for _, cells in read_rows(file, shape))]

    def test_encodings_and_separators(self) -> None:
        table = [["name", "city"], ["Zoë", "Łódź"]]
        text = "name,city\r\nZoë,Łódź\r\n"
        for content in (
            text.encode(),
            codecs.BOM_UTF8 + text.encode(),
            text.encode("utf-16"),
            codecs.BOM_UTF16_BE + text.encode("utf-16-be"),
            text.replace(",", ";").encode(),
            text.replace(",", "\t").encode(),
            text.replace("\r\n", "\n").encode(),
        ):
            with self.subTest(start=content[:12]):
                self.assertEqual(self.rows(content), table)
        self.assertEqual(
            self.rows("name,city\nZoë,Köln\n".encode("cp1252")), [["name", "city"], ["Zoë", "Köln"]]
        )

    def test_a_letter_cut_by_a_reading_block_is_not_taken_for_another_encoding(self) -> None:
        content = b"name\n" + b"a" * (1_048_576 - 6) + b"\n"
        self.path.write_bytes(content + "é\n".encode() * 3)
        self.assertEqual(shape_of(self.path).encoding, "utf-8")

    def test_files_that_cannot_be_read_say_why(self) -> None:
        cases = {
            b"": "empty",
            b"  \n": "empty",
            b"PK\x03\x04xxxx": "spreadsheet",
            b"\x00\x01\x02": "not a text file",
            b",,\n,,\n": "no table",
            b'a,b\n"' + b"x" * 200_000 + b"\n": "quotation mark",
            b"a\n" + b"x" * 600_000 + b"\n": "longer than",
        }
        for content, words in cases.items():
            with self.subTest(start=content[:12]), self.assertRaisesRegex(FileProblem, words):
                self.rows(content)

    def test_a_first_row_with_a_wrong_cell_is_no_second_heading(self) -> None:
        """The first customer would be lost, and the columns called *mail not an address*."""
        for first in ("Ada;not an address", "Ada;none given", "Ada Lovat;ask her husband"):
            for gap in ("", ";\n"):
                with self.subTest(first, gap=gap):
                    content = f"name;mail\n{first}\n{gap}Bo;bo@x.example\nCy;cy@x.example\n"
                    found = self.rows(content.encode())
                    self.assertEqual(found[:2], [["name", "mail"], first.split(";")])
        content = "name;mail;birthday\nAda;not an address;\nBo;bo@x.example;3 May 1991\n"
        self.assertEqual(self.rows(content.encode())[0], ["name", "mail", "birthday"])

    def test_two_heading_rows_are_read_together(self) -> None:
        rows = (
            "Customer;Customer;Last",
            "name;email;visit",
            "Ada;ada@x.example;2026-05-02",
            "Bo;;2026-05-03",
        )
        content = "\n".join(rows)
        self.assertEqual(self.rows(content.encode())[0], ["Customer name", "Customer email", "Last visit"])
        content = "Name;Total;Placed\n;in euro;on\nAda;12,50;2026-05-02\nBo;13,50;2026-05-03\n"
        self.assertEqual(self.rows(content.encode())[0], ["Name", "Total in euro", "Placed on"])

    def test_quoted_breaks_and_blank_rows(self) -> None:
        self.assertEqual(
            self.rows(b'a,b\n"1\n2","x, ""y"""\n\n,\n3,4\n')[1:], [["1\n2", 'x, "y"'], ["3", "4"]]
        )

    @given(st.text(max_size=30))
    def test_a_guarded_cell_is_no_formula_and_reads_back(self, cell: str) -> None:
        out = guarded(cell)
        self.assertFalse(out.lstrip().startswith(("=", "@")))
        if not cell.strip().startswith("'"):
            self.assertEqual(plain_cell(out), plain_cell(cell))
