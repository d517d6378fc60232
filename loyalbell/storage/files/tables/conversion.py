"""Files that are not tables of text, turned into one: spreadsheets, web pages, vCards and iCalendars."""

import csv
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from loyalbell.storage.files.tables.html_tables import read_html
from loyalbell.storage.files.tables.icalendar_files import read_calendar
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.vcard_files import Cards
from loyalbell.storage.files.tables.workbooks import Workbook, is_workbook

FIRST_BYTES = 4_096


@dataclass(frozen=True)
class Converted:
    """What a file was: the kind of records that it can only hold, the sheet taken of which sheets, and what
    could not be read of it, in words.
    """

    kind: str | None = None
    sheet: str | None = None
    sheets: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()


def as_table(
    source: Path, table: Path, kind: str | None, zone: str, sheet: str | None = None
) -> Converted | None:
    """Writes the file as CSV where it is one of ours to turn, and ``None`` where it is text already.

    Raises ``FileProblem`` and writes nothing.
    """
    first = _first_bytes(source)
    start = _start(first)
    if is_workbook(first):
        book = Workbook(source)
        taken = sheet or book.likeliest()
        _write(table, book.rows(taken))
        return Converted(sheet=taken, sheets=book.sheets)
    if start.startswith(b"BEGIN:VCARD"):
        _only_for(kind, "customers", "vCards")
        cards = Cards(_text_of(source))
        _write(table, cards.rows())
        return Converted("customers", left_out=tuple(cards.left_out))
    if start.startswith(b"BEGIN:VCALENDAR"):
        _only_for(kind, "appointments", "A calendar")
        _write(table, read_calendar(_text_of(source), zone))
        return Converted("appointments")
    if _is_page(start):
        _write(table, read_html(source.read_bytes()))
        return Converted()
    return None


def is_text(source: Path) -> bool:
    """Whether a file is read as it is, line by line."""
    first = _first_bytes(source)
    start = _start(first)
    others = (b"BEGIN:VCARD", b"BEGIN:VCALENDAR")
    return not (is_workbook(first) or start.startswith(others) or _is_page(start))


def _first_bytes(source: Path) -> bytes:
    with source.open("rb") as file:
        return file.read(FIRST_BYTES)


def _start(first: bytes) -> bytes:
    """In capitals, without marks of an encoding."""
    return first.replace(b"\x00", b"").lstrip(b"\xef\xbb\xbf\xff\xfe \r\n\t").upper()


def _is_page(start: bytes) -> bool:
    return b"<TABLE" in start or start.startswith((b"<!DOCTYPE HTML", b"<HTML"))


def _only_for(kind: str | None, wanted: str, what: str) -> None:
    if kind not in (None, wanted):
        raise FileProblem(f"{what} can be imported as {wanted}, not as {kind}. Choose “{wanted}”.")


def _text_of(path: Path) -> str:
    content = path.read_bytes()
    encoding = "utf-16" if content[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    try:
        return content.decode(encoding)
    except UnicodeDecodeError:
        return content.decode("cp1252", errors="replace")


def _write(table: Path, rows: Iterable[list[str]]) -> None:
    scratch = table.with_name(table.name + ".part")
    try:
        with scratch.open("w", encoding="utf-8", newline="") as out:
            csv.writer(out).writerows(rows)
        scratch.replace(table)
    finally:
        scratch.unlink(missing_ok=True)
