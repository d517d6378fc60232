"""Spreadsheets: XLSX, and what older or other programs write (XLS, XLSB, ODS). One sheet becomes a table."""

import zipfile
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from itertools import islice
from pathlib import Path
from typing import Any

from openpyxl import load_workbook
from openpyxl.utils.exceptions import InvalidFileException
from python_calamine import CalamineError, CalamineWorkbook

from loyalbell.storage.files.tables.problems import FileProblem

MOST_CELLS_WIDE = 2_000
LOOKED_AT = 200
MOST_UNPACKED = 1_500_000_000
"""Bytes of a spreadsheet once it is unpacked."""
MOST_RATIO, UNUSUAL_FROM = 120, 30_000_000
"""Sixty thousand orders pack 8 times, ten columns of one word 24 times (measured); what packs far tighter,
from so many bytes on, was made to fill the memory.
"""
OLE = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
"""How files of older office programs begin (MS-CFB, header signature)."""
ZIP = b"PK\x03\x04"
DAMAGED = (
    "This spreadsheet cannot be read; it may be damaged, locked with a password, or of another kind. Save it"
    " as XLSX or CSV again."
)
Rows = Iterator[list[str]]


class Workbook:
    """The sheets of a file that hold something, and their rows. Raises ``FileProblem``."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._is_xlsx = _holds_xlsx(path)
            self._old = None if self._is_xlsx else CalamineWorkbook.from_path(str(path))
            self.sheets = tuple(self._with_rows())
        except (CalamineError, InvalidFileException, zipfile.BadZipFile, *_ODD) as error:
            raise FileProblem(DAMAGED) from error
        if not self.sheets:
            raise FileProblem("The spreadsheet is empty.")

    def likeliest(self) -> str:
        """The sheet that looks most like a table: a page of explanations has one cell a row."""
        return max(self.sheets, key=self._tablelike)

    def rows(self, sheet: str) -> Rows:
        """All rows of a sheet, the blank ones too, so that their numbers are the sheet's own."""
        if sheet not in self.sheets:
            raise FileProblem(f"The spreadsheet has no sheet “{sheet}” with anything in it.")
        try:
            yield from self._rows(sheet)
        except (CalamineError, InvalidFileException, zipfile.BadZipFile, *_ODD) as error:
            raise FileProblem(DAMAGED) from error

    def _with_rows(self) -> Iterator[str]:
        for name in self._names():
            if any(any(row) for row in islice(self._rows(name), LOOKED_AT)):
                yield name

    def _names(self) -> list[str]:
        if self._old is not None:
            return list(self._old.sheet_names)
        with self.path.open("rb") as file:
            book = load_workbook(file, read_only=True)
            return [sheet.title for sheet in book.worksheets]

    def _tablelike(self, sheet: str) -> int:
        widths = [sum(map(bool, row)) for row in islice(self._rows(sheet), LOOKED_AT)]
        return sum(width for width in widths if width > 1)

    def _rows(self, sheet: str) -> Rows:
        if self._old is not None:
            found = self._old.get_sheet_by_name(sheet)
            above = found.start[0] if found.start else 0
            yield from ([] for _ in range(above))
            for row in found.iter_rows():
                yield [say_cell(value) for value in row[:MOST_CELLS_WIDE]]
            return
        with self.path.open("rb") as file:
            book = load_workbook(file, read_only=True, data_only=True)
            for cells in book[sheet].iter_rows(values_only=True):
                yield [say_cell(value) for value in cells[:MOST_CELLS_WIDE]]


_ODD = (KeyError, OSError, ValueError, EOFError, TypeError, AttributeError, IndexError)
"""What the libraries let through where a file only looks like a spreadsheet."""


def is_workbook(first: bytes) -> bool:
    return first.startswith((ZIP, OLE))


def _holds_xlsx(path: Path) -> bool:
    with path.open("rb") as file:
        if not file.read(8).startswith(ZIP):
            return False
    with zipfile.ZipFile(path) as packed:
        unpacked = sum(part.file_size for part in packed.infolist())
        if unpacked > UNUSUAL_FROM and unpacked > MOST_RATIO * path.stat().st_size:
            raise FileProblem(
                f"This spreadsheet says it holds {unpacked // 1_000_000:,} MB, far more than tables of its"
                " size do. Save it as CSV, and choose that."
            )
        if unpacked > MOST_UNPACKED:
            raise FileProblem(
                "This spreadsheet is too large to be read. Save it in smaller parts, or as CSV."
            )
        return "xl/workbook.xml" in packed.namelist()


def say_cell(value: Any) -> str:
    """A cell as the text of a CSV file."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat(" ", "seconds")
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, timedelta):
        return f"{value.total_seconds() / 86_400:.9f}".rstrip("0").rstrip(".")
    if isinstance(value, float):
        return f"{value:.9f}".rstrip("0").rstrip(".")
    return str(value)
