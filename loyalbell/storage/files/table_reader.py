"""Reading a CSV or TSV file as it comes: any common encoding and separator, row by row."""

import codecs
import csv
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from io import TextIOWrapper
from itertools import count, islice
from pathlib import Path
from typing import BinaryIO

LONGEST_CELL = 131_072
LONGEST_LINE = 4 * LONGEST_CELL
SEPARATORS = (",", ";", "\t", "|")
FIRST_BYTES = 65_536
BOMS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)

csv.field_size_limit(LONGEST_CELL)


class FileProblem(Exception):
    """A file that cannot be read at all, said in words for the person who chose it."""


@dataclass(frozen=True)
class TableShape:
    """How a file is written: its encoding, separator and headings."""

    encoding: str
    separator: str
    headings: tuple[str, ...]


# (number, cells): numbers count rows of the table from 1, the heading being row 1
Row = tuple[int, list[str]]


def shape_of(path: Path) -> TableShape:
    """Looks at a file without reading it all into memory. Raises ``FileProblem``."""
    with path.open("rb") as file:
        first = file.read(FIRST_BYTES)
    if not first.strip():
        raise FileProblem(
            "The file is empty. Choose a file with a heading row and at least one row below it."
        )
    encoding = _encoding(path, first)
    separator = _separator(first.decode(encoding, errors="ignore"))
    with path.open("rb") as file:
        heading = next(_rows(file, encoding, separator), None)
    headings = tuple(_clean_heading(cell) for cell in heading or [])
    _check_headings(headings)
    return TableShape(encoding, separator, headings)


def _encoding(path: Path, first: bytes) -> str:
    for bom, encoding in BOMS:
        if first.startswith(bom):
            return encoding
    if first.startswith(b"PK\x03\x04"):
        raise FileProblem("This is a spreadsheet file, not CSV. Save it as CSV in your spreadsheet program.")
    if b"\x00" in first:
        raise FileProblem("This is not a text file. Export the table as CSV and choose that file.")
    decoder = codecs.getincrementaldecoder("utf-8")()
    with path.open("rb") as file:
        try:
            while chunk := file.read(1_048_576):
                decoder.decode(chunk)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return "cp1252"
    return "utf-8"


def _separator(start: str) -> str:
    lines = start.splitlines()[:6]

    def score(separator: str) -> tuple[int, int]:
        widths = [len(row) for row in csv.reader(lines, delimiter=separator)]
        alike = sum(width == widths[0] for width in widths[:-1])
        return (widths[0] > 1) * alike, widths[0]

    try:
        return max(SEPARATORS, key=score)
    except csv.Error as error:
        raise FileProblem(_say_csv_error(1)) from error


def _clean_heading(cell: str) -> str:
    return " ".join(cell.replace("\ufeff", "").split())


def _check_headings(headings: tuple[str, ...]) -> None:
    seen: dict[str, int] = {}
    for at, heading in enumerate(headings, start=1):
        known = heading.casefold()
        if known and known in seen:
            raise FileProblem(
                f"Two columns are called “{heading}”: columns {seen[known]} and {at}. "
                "Rename one of them in the file."
            )
        seen[known] = at
    if not any(headings):
        raise FileProblem("The first row is empty. It should name the columns.")


def _whole(line: str) -> str:
    if len(line) >= LONGEST_LINE and not line.endswith("\n"):
        raise FileProblem(f"A line of the file is longer than {LONGEST_LINE:,} characters. Is it a table?")
    return line


def _rows(file: BinaryIO, encoding: str, separator: str) -> Iterator[list[str]]:
    text = TextIOWrapper(file, encoding=encoding, errors="replace", newline="")
    lines = iter(partial(text.readline, LONGEST_LINE), "")
    reader = csv.reader(map(_whole, lines), delimiter=separator)
    try:
        yield from reader
    except csv.Error as error:
        raise FileProblem(_say_csv_error(reader.line_num)) from error
    finally:
        text.detach()


def _say_csv_error(row: int) -> str:
    return (
        f"Line {row} of the file is in a cell longer than {LONGEST_CELL:,} characters. "
        "A quotation mark is probably missing near there."
    )


def read_rows(file: BinaryIO, shape: TableShape) -> Iterator[Row]:
    """Every row below the heading that is not blank. Raises ``FileProblem`` where it stops making sense."""
    rows = _rows(file, shape.encoding, shape.separator)
    next(rows, None)
    yield from filter(_holds_something, zip(count(2), rows))


def _holds_something(row: Row) -> bool:
    return any(row[1])


def chunks_of(rows: Iterator[Row], size: int) -> Iterator[list[Row]]:
    """The rows in lists of at most ``size``."""
    while chunk := list(islice(rows, size)):
        yield chunk
