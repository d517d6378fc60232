"""One reading of the book, and how its rows become columns."""

from collections.abc import Sequence
from datetime import date
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session as Reader

from loyalbell.core.history.columns import Small
from loyalbell.core.history.snapshot import NO_DAY, Orders, People, WordCodes
from loyalbell.core.history.visits import EPOCH

Range = tuple[int, int]
Ints = NDArray[np.int64]
AT_ONCE = 50_000
"""Rows that are in memory as Python's numbers, before they become columns."""


class Loading:
    """One reading of the book: whose numbers people have, the codes of words, and the orders read so far."""

    def __init__(self, reader: Reader, people: People, words: WordCodes, zone: str) -> None:
        self.reader, self.people, self.words, self.zone = reader, people, words, zone
        self.orders_of: dict[Range | None, Orders] = {}

    def table(self, sql: str, width: int) -> list[Ints]:
        """The ``width`` columns of a query on whole numbers, each with memory of its own: whoever keeps one
        of them keeps no other.
        """
        cursor, pieces = self.rows(sql), list[list[Ints]]([] for _ in range(width))
        while rows := cursor.fetchmany(AT_ONCE):
            block = np.fromiter(chain.from_iterable(rows), dtype=np.int64, count=len(rows) * width)
            for piece, column in zip(pieces, block.reshape(-1, width).T, strict=True):
                piece.append(column.copy())
        return [_joined(pieces.pop(0)) for _ in range(width)]

    def rows(self, sql: str) -> Any:
        cursor: Any = self.reader.connection().connection.cursor()
        return cursor.execute(sql)

    def columns(self, sql: str, width: int) -> list[list[Any]]:
        """The rows of a query of any kind, as one list a column."""
        found = list(zip(*self.rows(sql), strict=True))
        return [list(column) for column in found] or [[] for _ in range(width)]

    def numbers(self, ids: Any) -> Small:
        """Person numbers of person ids; quick where ids run without gaps."""
        known, wanted = self.people.ids, np.asarray(ids, dtype=np.int64)
        if len(known) and known[-1] - known[0] == len(known) - 1:
            offsets: Small = (wanted - known[0]).astype(np.int32)
            return offsets
        return np.searchsorted(known, wanted).astype(np.int32)

    def codes(self, words: Sequence[str | None]) -> list[int]:
        return [self.words[word] if word else 0 for word in words]


def _joined(pieces: list[Ints]) -> Ints:
    return np.concatenate(pieces) if pieces else np.zeros(0, dtype=np.int64)


def where(key: str, span: Range | None) -> str:
    return "" if span is None else f"{key} BETWEEN {span[0]} AND {span[1]}"


def code(words: tuple[str, ...], column: str) -> str:
    cases = " ".join(f"WHEN '{word}' THEN {at}" for at, word in enumerate(words))
    return f"CASE {column} {cases} ELSE 0 END"


def day_of(text: str | None) -> int:
    return NO_DAY if text is None else (date.fromisoformat(text) - EPOCH).days
