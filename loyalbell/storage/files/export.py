"""The book out again: as CSV, a spreadsheet, JSON, vCards or an iCalendar."""

import csv
import json
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.utils.exceptions import IllegalCharacterError
from sqlalchemy.orm import Session as Reader

from loyalbell.core.history.visits import visits
from loyalbell.storage.files.export_rows import HEADINGS, headings_of, rows_of
from loyalbell.storage.files.import_outcome import guarded
from loyalbell.storage.files.tables.icalendar_files import write_calendar
from loyalbell.storage.files.tables.vcard_files import write_cards
from loyalbell.storage.snapshot.loading import load_snapshot

KINDS = tuple(HEADINGS)
FORMATS = {"csv": KINDS, "xlsx": KINDS, "json": KINDS, "vcf": ("customers",), "ics": ("appointments",)}
MEDIA = {
    "csv": "text/csv; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "json": "application/json",
    "vcf": "text/vcard; charset=utf-8",
    "ics": "text/calendar; charset=utf-8",
}
MOST_SHEET_ROWS = 1_048_575
VISITED = ("orders", "walk_ins", "appointments")


class TooLong(Exception):
    """More rows than the format can hold."""


def write(
    reader: Reader, kind: str, form: str, path: Path, now: datetime, only: Sequence[int] | None = None
) -> int:
    """Writes one kind to a file.

    ``only`` the customers with these ids. Returns the rows written. Raises ``TooLong``.
    """
    headings, rows = headings_of(reader, kind), rows_of(reader, kind, only)
    if form == "xlsx":
        return _write_sheet(path, kind, headings, rows)
    counted = _Counted(rows)
    with path.open("w", encoding="utf-8", newline="") as out:
        if form == "csv":
            writer = csv.writer(out)
            writer.writerow(map(guarded, headings))
            writer.writerows([guarded(cell) for cell in row] for row in counted)
        elif form == "json":
            for piece in _json(headings, counted):
                out.write(piece)
        elif form == "vcf":
            for card in write_cards(_named(headings, row) for row in counted):
                out.write(card)
        else:
            out.write(write_calendar((_named(headings, row) for row in counted), now))
    return counted.count


class _Counted:
    def __init__(self, rows: Iterator[list[str]]) -> None:
        self.rows, self.count = rows, 0

    def __iter__(self) -> Iterator[list[str]]:
        for row in self.rows:
            self.count += 1
            yield row


def _named(headings: Sequence[str], row: Sequence[str]) -> dict[str, str]:
    return {name: cell for name, cell in zip(headings, row, strict=True) if cell}


def _json(headings: Sequence[str], rows: _Counted) -> Iterator[str]:
    """A JSON array of objects by heading, blank cells left out."""
    yield "["
    for number, row in enumerate(rows):
        yield ("," if number else "") + "\n" + json.dumps(_named(headings, row), ensure_ascii=False)
    yield "\n]\n"


def _write_sheet(path: Path, kind: str, headings: Sequence[str], rows: Iterator[list[str]]) -> int:
    """Every cell is text, so that nothing is run as a formula and no number loses its zeros."""
    book = Workbook(write_only=True)
    sheet = book.create_sheet(kind)
    sheet.freeze_panes = "A2"
    sheet.append([_text_cell(sheet, name) for name in headings])
    count = 0
    for row in rows:
        count += 1
        if count > MOST_SHEET_ROWS:
            raise TooLong("A spreadsheet holds at most 1,048,575 rows. Choose CSV instead.")
        sheet.append([_text_cell(sheet, cell) if cell else None for cell in row])
    book.save(path)
    return count


def _text_cell(sheet: object, text: str) -> WriteOnlyCell:
    try:
        cell = WriteOnlyCell(sheet, value=text)
    except IllegalCharacterError:
        cell = WriteOnlyCell(sheet, value="".join(c for c in text if c.isprintable() or c in "\n\t"))
    cell.data_type, cell.number_format = "s", "@"
    return cell


def book_figures(reader: Reader) -> dict[str, object]:
    """People, orders, lines, visits, money per currency in minor units (cancelled orders left out), first and
    last instants.
    """
    connection = reader.connection()

    def one(sql: str) -> int:
        return int(connection.exec_driver_sql(sql).scalar_one() or 0)

    money = connection.exec_driver_sql(
        "SELECT currency, sum(total_minor - refunded_minor) FROM orders WHERE cancelled_at IS NULL GROUP BY 1"
    )
    first, last = connection.exec_driver_sql(
        """SELECT min(first), max(last) FROM (
             SELECT min(placed_at) AS first, max(placed_at) AS last FROM orders UNION ALL
             SELECT min(at), max(at) FROM visit UNION ALL SELECT min(at), max(at) FROM event)"""
    ).one()
    return {
        "people": one("SELECT count(*) FROM person"),
        "orders": one("SELECT count(*) FROM orders"),
        "lines": one("SELECT count(*) FROM order_line"),
        "visits": len(visits(load_snapshot(reader, parts=VISITED), 2**61)),
        "appointments": one("SELECT count(*) FROM appointment"),
        "memberships": one("SELECT count(*) FROM membership"),
        "events": one("SELECT count(*) FROM event"),
        "money": {currency: int(total) for currency, total in money},
        "first": None if first is None else datetime.fromtimestamp(first, UTC).isoformat(),
        "last": None if last is None else datetime.fromtimestamp(last, UTC).isoformat(),
    }
