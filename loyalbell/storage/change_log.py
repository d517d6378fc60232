"""The journal of changed rows, by which the ledger in memory follows the book."""

from collections.abc import Iterable

from sqlalchemy.orm import Session

# A note of rows may cover a few rows between that did not change; reading those again costs little.
NEAR = 50
KEPT = 5_000


def mark_whole(writer: Session, *parts: str) -> None:
    """Notes that parts of the ledger are to be read again whole; call it in the transaction that changes them."""
    _note(writer, [(part, None, None) for part in parts])


def mark_rows(writer: Session, part: str, ids: Iterable[int]) -> None:
    """Notes rows that were written or taken out, by id; call it in the transaction that changes them."""
    _note(writer, [(part, low, high) for low, high in runs(ids)])


def mark_span(writer: Session, part: str, low: int, high: int) -> None:
    """Notes the rows whose ids lie from ``low`` to ``high``."""
    _note(writer, [(part, low, high)])


def runs(ids: Iterable[int]) -> list[tuple[int, int]]:
    """Ranges that hold all the ids, ascending."""
    found: list[tuple[int, int]] = []
    for one in sorted(set(ids)):
        if found and one - found[-1][1] <= NEAR:
            found[-1] = (found[-1][0], one)
        else:
            found.append((one, one))
    return found


def _note(writer: Session, rows: list[tuple[str, int | None, int | None]]) -> None:
    connection = writer.connection()
    for row in rows:
        connection.exec_driver_sql("INSERT INTO change_log (part, low, high) VALUES (?, ?, ?)", row)


def newest(reader: Session) -> int:
    """The number of the newest note; 0 where nothing was ever noted."""
    found = reader.connection().exec_driver_sql("SELECT seq FROM sqlite_sequence WHERE name = 'change_log'")
    return int(found.scalar() or 0)


def since(reader: Session, number: int) -> dict[str, list[tuple[int, int]] | None] | None:
    """Per part the ranges noted after ``number``, ``None`` for a whole part; ``None`` where notes are missing."""
    rows = (
        reader.connection()
        .exec_driver_sql("SELECT id, part, low, high FROM change_log WHERE id > ? ORDER BY id", (number,))
        .all()
    )
    if not rows or rows[0][0] != number + 1:
        return None
    found: dict[str, list[tuple[int, int]] | None] = {}
    for _, part, low, high in rows:
        ranges = found.setdefault(part, [])
        if low is None:
            found[part] = None
        elif ranges is not None:
            ranges.append((low, high))
    return found


def shorten(writer: Session) -> None:
    """Forgets old notes; a reader that still wanted them reads everything again."""
    writer.connection().exec_driver_sql(
        "DELETE FROM change_log WHERE id <= (SELECT max(id) FROM change_log) - ?", (KEPT,)
    )
