"""The change log: notes of changed rows, by which the snapshot in memory follows the database."""

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection
from sqlalchemy.orm import Session

NEAR = 50
"""A note may cover so many rows in between that did not change; reading those again costs little."""
MOST_RANGES = 400
"""A part that changed in more places than this in one transaction is read again whole."""
KEPT = 5_000

Ids = NDArray[np.int64]


def note_whole(connection: Connection, part: str) -> None:
    """Notes that a part of the snapshot is to be read again whole."""
    _note(connection, [(part, None, None)])


def note_rows(connection: Connection, part: str, ids: Ids) -> None:
    """Notes rows that were written or taken out, by id."""
    ranges = runs(ids)
    if len(ranges) > MOST_RANGES:
        note_whole(connection, part)
    else:
        _note(connection, [(part, low, high) for low, high in ranges])


def note_span(connection: Connection, part: str, low: int, high: int) -> None:
    """Notes the rows whose ids lie from ``low`` to ``high``."""
    _note(connection, [(part, low, high)])


def runs(ids: Ids) -> list[tuple[int, int]]:
    """Ranges that hold all the ids, ascending; ids closer than ``NEAR`` share one."""
    unique = np.unique(ids)
    if not len(unique):
        return []
    breaks = np.flatnonzero(np.diff(unique) > NEAR)
    lows, highs = unique[np.r_[0, breaks + 1]], unique[np.r_[breaks, len(unique) - 1]]
    return list(zip(lows.tolist(), highs.tolist(), strict=True))


def _note(connection: Connection, rows: list[tuple[str, int | None, int | None]]) -> None:
    for row in rows:
        connection.exec_driver_sql("INSERT INTO change_log (part, low, high) VALUES (?, ?, ?)", row)


def newest(reader: Session) -> int:
    """The number of the newest note; 0 where nothing was ever noted."""
    newest_id = reader.connection().exec_driver_sql(
        "SELECT seq FROM sqlite_sequence WHERE name = 'change_log'"
    )
    return int(newest_id.scalar() or 0)


def since(reader: Session, number: int) -> dict[str, list[tuple[int, int]] | None] | None:
    """Per part the ranges noted after ``number``, ``None`` for a whole part.

    ``None`` where notes are missing.
    """
    rows = (
        reader.connection()
        .exec_driver_sql("SELECT id, part, low, high FROM change_log WHERE id > ? ORDER BY id", (number,))
        .all()
    )
    if not rows or rows[0][0] != number + 1:
        return None
    noted: dict[str, list[tuple[int, int]] | None] = {}
    for _, part, low, high in rows:
        ranges = noted.setdefault(part, [])
        if low is None:
            noted[part] = None
        elif ranges is not None:
            ranges.append((low, high))
    return noted


def shorten(writer: Session) -> None:
    """Forgets old notes; a reader that still wanted them reads everything again."""
    writer.connection().exec_driver_sql(
        "DELETE FROM change_log WHERE id <= (SELECT max(id) FROM change_log) - ?", (KEPT,)
    )
