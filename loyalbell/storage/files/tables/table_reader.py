"""Reading a CSV or TSV file as it comes: any common encoding and separator, row by row."""

import csv
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from io import TextIOWrapper
from itertools import count, islice
from pathlib import Path
from typing import BinaryIO

from loyalbell.storage.files.tables.heading_rows import LOOKED_AT, find_headings
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.text_encoding import ENCODINGS, encoding_of

LONGEST_CELL = 131_072
LONGEST_LINE = 4 * LONGEST_CELL
SEPARATORS = (",", ";", "\t", "|")
FIRST_BYTES = 65_536
_SEPARATOR_LINE = re.compile(r"\ufeff?\"?sep=(.)\"?[\r\n]", re.I)

csv.field_size_limit(LONGEST_CELL)


@dataclass(frozen=True)
class Reading:
    """What somebody said of how a file is to be read; what is ``None`` is found out.

    ``heading_row`` counts from 1, 0 for a table without headings; ``sheet`` is a spreadsheet's.
    """

    encoding: str | None = None
    heading_row: int | None = None
    sheet: str | None = None

    def __post_init__(self) -> None:
        if self.encoding is not None and self.encoding not in ENCODINGS:
            raise FileProblem(f"“{self.encoding}” is not an encoding that we know.")
        if self.heading_row is not None and not 0 <= self.heading_row <= LOOKED_AT:
            raise FileProblem(f"The heading must be one of the first {LOOKED_AT} rows.")


FOUND_OUT = Reading()


@dataclass(frozen=True)
class TableShape:
    """How a file is written: its encoding, separator and headings, and the number of their (last) row, 0
    where it has none.
    """

    encoding: str
    separator: str
    headings: tuple[str, ...]
    heading_row: int = 1


# (number, cells): numbers count rows of the file from 1
Row = tuple[int, list[str]]


def shape_of(path: Path, reading: Reading = FOUND_OUT, country: str = "") -> TableShape:
    """Looks at a file without reading it all into memory. Raises ``FileProblem``."""
    with path.open("rb") as file:
        first = file.read(FIRST_BYTES)
    if not first.strip():
        raise FileProblem(
            "The file is empty. Choose a file with a heading row and at least one row below it."
        )
    encoding = reading.encoding or encoding_of(path, first, country)
    separator = _separator(first.decode(encoding, errors="ignore"))
    headings = find_headings(first_rows(path, encoding, separator), reading.heading_row)
    if not headings.names:
        raise FileProblem("The file holds no table: no row of it has a cell with something in it.")
    return TableShape(encoding, separator, headings.names, headings.row)


def first_rows(path: Path, encoding: str, separator: str) -> list[list[str]]:
    """The rows at the start of a file, headings and titles too; what stops making sense further down is said
    when it is read.
    """
    found: list[list[str]] = []
    with path.open("rb") as file:
        try:
            found.extend(islice(_rows(file, encoding, separator), LOOKED_AT))
        except FileProblem:
            if not found:
                raise
    return found


def _separator(start: str) -> str:
    said = _SEPARATOR_LINE.match(start)
    if said:
        return said[1]
    # some rows further down, where titles are over
    lines = start.splitlines()[: LOOKED_AT + 1][:-1] or start.splitlines()

    def score(separator: str) -> tuple[int, int]:
        widths = [len(row) for row in csv.reader(lines, delimiter=separator)]
        usual = max(set(widths), key=lambda width: (width > 1, widths.count(width)), default=0)
        return (usual > 1) * widths.count(usual), usual

    try:
        return max(SEPARATORS, key=score)
    except csv.Error as error:
        raise FileProblem(_say_csv_error(1)) from error


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
    """Every row below the headings that is not blank. Raises ``FileProblem`` where it stops making sense."""
    rows = islice(_rows(file, shape.encoding, shape.separator), shape.heading_row, None)
    yield from filter(_holds_something, zip(count(shape.heading_row + 1), rows))


def _holds_something(row: Row) -> bool:
    return any(row[1])


def chunks_of(rows: Iterator[Row], size: int) -> Iterator[list[Row]]:
    """The rows in lists of at most ``size``."""
    while chunk := list(islice(rows, size)):
        yield chunk
