"""Files that are not tables of text, turned into one: spreadsheets (XLSX), vCards and iCalendars."""

import csv
import zipfile
from collections.abc import Iterable, Iterator
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

from openpyxl import load_workbook
from openpyxl.utils.exceptions import InvalidFileException

from loyalbell.storage.files.icalendar_files import read_calendar
from loyalbell.storage.files.table_reader import FileProblem
from loyalbell.storage.files.vcard_files import read_cards

FIRST_BYTES = 4_096
MOST_CELLS_WIDE = 2_000


def as_table(path: Path, kind: str, zone: str) -> None:
    """Rewrites the file as CSV where it is one of ours to turn.

    Leaves any other as it is. Raises ``FileProblem``.
    """
    with path.open("rb") as file:
        first = file.read(FIRST_BYTES)
    start = first.lstrip(b"\xef\xbb\xbf \r\n\t")[:20].upper()
    if first.startswith(b"PK\x03\x04"):
        _rewrite(path, _spreadsheet_rows(path))
    elif start.startswith(b"BEGIN:VCARD"):
        _only_for(kind, "customers", "vCards")
        _rewrite(path, read_cards(_text_of(path)))
    elif start.startswith(b"BEGIN:VCALENDAR"):
        _only_for(kind, "appointments", "A calendar")
        _rewrite(path, read_calendar(_text_of(path), zone))


def _only_for(kind: str, wanted: str, what: str) -> None:
    if kind != wanted:
        raise FileProblem(f"{what} can be brought in as {wanted}, not as {kind}. Choose “{wanted}”.")


def _text_of(path: Path) -> str:
    try:
        return path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError:
        return path.read_bytes().decode("cp1252", errors="replace")


def _rewrite(path: Path, rows: Iterable[list[str]]) -> None:
    scratch = path.with_name(path.name + ".csv")
    try:
        with scratch.open("w", encoding="utf-8", newline="") as out:
            csv.writer(out).writerows(rows)
        scratch.replace(path)
    finally:
        scratch.unlink(missing_ok=True)


def _spreadsheet_rows(path: Path) -> Iterator[list[str]]:
    """The first sheet that holds anything; its first row that holds anything is the heading."""
    try:
        with path.open("rb") as file:
            book = load_workbook(file, read_only=True, data_only=True)
            for sheet in book.worksheets:
                started = False
                for row in sheet.iter_rows(values_only=True):
                    cells = [_cell(value) for value in row[:MOST_CELLS_WIDE]]
                    started = started or any(cells)
                    if started:
                        yield cells
                if started:
                    return
            raise FileProblem("The spreadsheet is empty.")
    except (InvalidFileException, zipfile.BadZipFile, KeyError, OSError, ValueError, EOFError) as error:
        raise FileProblem(
            "This spreadsheet cannot be read; it may be damaged or of another kind. Save it as XLSX or CSV"
            " again."
        ) from error


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat(" ", "seconds")
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, float):
        return f"{value:.9f}".rstrip("0").rstrip(".")
    return str(value)
