"""Which row of a table names its columns: not always the first, sometimes two, sometimes none."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from loyalbell.storage.files.columns.column_guess import is_known_heading
from loyalbell.storage.records.parsers import BLANKS

LOOKED_AT = 40
"""Rows at the start of a table in which its headings are looked for."""
DATA_ROWS = 12
NEARLY_ALL = 0.75
Cells = Sequence[str]


@dataclass(frozen=True)
class Headings:
    """``row`` is the last heading row, from 1; 0 where there is none. ``names`` are never blank or double."""

    row: int
    names: tuple[str, ...]


def find_headings(rows: Sequence[Cells], chosen: int | None = None) -> Headings:
    """The headings of a table that begins with ``rows``; ``chosen`` is the row that somebody said, 0 for
    none. No names where the rows hold nothing.
    """
    clean = [[_clean(cell) for cell in row] for row in rows]
    width = max((len(row) for row in clean if any(row)), default=0)
    goes_on = 0
    if chosen is None:
        chosen = _heading_row(clean)
        goes_on = _goes_on(clean, chosen) if chosen else 0
        chosen += goes_on
    if chosen == 0 or chosen > len(clean):
        return Headings(0, tuple(f"Column {at}" for at in range(1, width + 1)))
    own = clean[chosen - 1]
    own += [""] * (_used_width(clean[chosen:]) - len(own))
    if goes_on:
        upper = clean[chosen - 2] + [""] * len(own)
        own = [f"{high} {low}".strip() for high, low in zip(upper, own, strict=False)]
    above = _groups(clean[chosen - 2], len(own)) if chosen > 1 and _is_of_groups(clean, chosen) else None
    return Headings(chosen, _told_apart(own, above))


def _clean(cell: str) -> str:
    return " ".join(cell.replace("\ufeff", "").split())


def is_wordlike(cell: str) -> bool:
    """Whether a cell could name a column: more letters than figures, no address, no link."""
    letters, figures = sum(map(str.isalpha, cell)), sum(map(str.isdigit, cell))
    return letters > figures and "@" not in cell and "://" not in cell and len(cell) <= 80


def _filled(row: Cells) -> int:
    return sum(map(bool, row))


def _used_width(rows: Sequence[Cells]) -> int:
    """Columns that most rows below the heading have, so that one stray cell makes no column."""
    last = [max((at for at, cell in enumerate(row, 1) if cell), default=0) for row in rows]
    return max((width for width, count in Counter(last).items() if count * 5 >= len(last)), default=0)


def _heading_row(rows: Sequence[Cells]) -> int:
    """The number of the first row that names most columns; 0 where the table begins with data."""
    filled = [_filled(row) for row in rows]
    wide = Counter(count for count in filled if count).most_common()
    usual = max((count for count, times in wide if times == wide[0][1]), default=0)
    for number, row in enumerate(rows, 1):
        if not any(row) or _is_separator_line(number, row):
            continue
        enough = filled[number - 1] >= max(min(2, usual), NEARLY_ALL * usual)
        if not enough:
            continue
        if not all(is_wordlike(cell) for cell in row if cell):
            return 0 if not _names_columns(rows, number) else number
        return number
    return next((number for number, row in enumerate(rows, 1) if any(row)), 0)


def _is_separator_line(number: int, row: Cells) -> bool:
    return number == 1 and bool(re.fullmatch(r"sep=.?", "".join(row), re.I))


def _names_columns(rows: Sequence[Cells], number: int) -> bool:
    """A row with a figure or two in it (*2026*, *1*) is a heading where most of it is words and the rows
    below are unlike it.
    """
    row = [cell for cell in rows[number - 1] if cell]
    if any("@" in cell for cell in row) or sum(map(is_wordlike, row)) < len(row) / 2:
        return False
    columns = _columns_of_data(rows, number + 1)
    return bool(columns) and all(_is_word_at(rows[number - 1], at) for at in columns[: len(columns) // 2 + 1])


def _is_word_at(row: Cells, at: int) -> bool:
    return at < len(row) and is_wordlike(row[at]) and row[at].casefold() not in BLANKS


def _columns_of_data(rows: Sequence[Cells], first: int) -> list[int]:
    """Columns whose cells, from row ``first`` on, mostly are no words: dates, amounts, addresses."""
    below = [row for row in rows[first - 1 : first - 1 + DATA_ROWS] if any(row)]
    found = []
    for at in range(max(map(len, below), default=0)):
        cells = [row[at] for row in below if at < len(row) and row[at]]
        if cells and sum(not is_wordlike(cell) for cell in cells) > len(cells) / 2:
            found.append(at)
    return found


def _goes_on(rows: Sequence[Cells], number: int) -> int:
    """1 where the next row belongs to the heading too: words in half or more of the columns that have
    figures below.

    Not where the row is complete without it and all that the next row says there are no words of headings:
    that is a record with a wrong cell.
    """
    if number >= len(rows) - 1:
        return 0
    below, columns = rows[number], _columns_of_data(rows, number + 2)
    named = [at for at in columns if _is_word_at(below, at)]
    if not columns or not all(is_wordlike(cell) for cell in below if cell):
        return 0
    if len(named) < max(1, len(columns) / 2):
        return 0
    return int(not _is_record(rows[number - 1], below, columns))


def _is_record(row: Cells, below: Cells, columns: Sequence[int]) -> bool:
    """Whether the row below a heading is a record: the heading names every one of ``columns`` by itself, and
    the row says something in another column too, but no word of headings anywhere.
    """
    named = all(at < len(row) and is_known_heading(row[at]) for at in columns)
    told = any(cell for at, cell in enumerate(below) if at not in columns)
    return named and told and not any(is_known_heading(cell) for cell in below)


def _is_of_groups(rows: Sequence[Cells], number: int) -> bool:
    """Whether the row above the heading names groups of its columns, or the first half of each heading."""
    above = [cell for cell in rows[number - 2] if cell]
    return (
        len(above) >= 2
        and all(map(is_wordlike, above))
        and not _is_separator_line(number - 1, rows[number - 2])
    )


def _groups(above: Cells, width: int) -> list[str]:
    """Each column's group: a name reaches over the blank cells to its right, as merged cells come out."""
    found, last = [], ""
    for at in range(width):
        last = (above[at] if at < len(above) else "") or last
        found.append(last)
    return found


def _told_apart(own: Sequence[str], groups: Sequence[str] | None) -> tuple[str, ...]:
    """Names that differ: with their group where they would not without, and with a number after that."""
    names = [name or "" for name in own]
    doubles = {name.casefold() for name, times in Counter(map(str.casefold, names)).items() if times > 1}
    if groups is not None:
        names = [
            f"{group} {name}".strip() if not name or name.casefold() in doubles else name
            for group, name in zip(groups, names, strict=True)
        ]
    names = [name or f"Column {at}" for at, name in enumerate(names, 1)]
    seen: Counter[str] = Counter()
    result = []
    for name in names:
        seen[name.casefold()] += 1
        times = seen[name.casefold()]
        result.append(name if times == 1 else f"{name} ({times})")
    return tuple(result)
