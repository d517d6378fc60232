"""Undoing a whole import: what it made is taken out, what it changed is put back, unless something depends on
it.
"""

import json
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import ImportChange, ImportRun

# what may hang on a person: table, the word for it, and whether its rows can come from an import
HANGING = (
    ("orders", "orders", True),
    ("visit", "visits", True),
    ("appointment", "appointments", True),
    ("membership", "memberships", True),
    ("event", "events", True),
    ("answer", "answers", True),
    ("consent_entry", "words about a channel", True),
    ("delivery", "messages", False),
    ("person_change", "changes by hand", False),
)
MADE_BY_IMPORT = ("orders", "visit", "appointment", "membership", "event", "answer", "suppression")
LINE_COLUMNS = "order_id, item_id, quantity, total_minor, discount_minor"


def what_depends(session: Session, run: ImportRun) -> list[str]:
    """What stands in the way of undoing, in words; empty where nothing does."""
    return [*_later_imports(session, run), *_hanging(session, run), *_edited(session, run)]


def _later_imports(session: Session, run: ImportRun) -> list[str]:
    """Later imports that changed a row which this one made or changed."""
    cursor = _cursor(session)
    found = set()
    for table in ("person", "item", *MADE_BY_IMPORT):
        cursor.execute(
            f"""SELECT DISTINCT later.import_id FROM import_change later
                JOIN import_run ON import_run.id = later.import_id AND undone_at IS NULL
                WHERE later.import_id > ? AND later.place = ? AND later.before != '{{}}' AND
                  (later.row_id IN (SELECT id FROM {table} WHERE import_id = ?) OR
                   later.row_id IN (SELECT row_id FROM import_change WHERE import_id = ? AND place = ?))""",
            (run.id, table, run.id, run.id, table),
        )
        found |= {row[0] for row in cursor}
    names = dict(
        session.execute(select(ImportRun.id, ImportRun.filename).where(ImportRun.id.in_(found))).all()
    )
    return [
        f"“{names[one]}” was imported later and changed the same records; undo it first"
        for one in sorted(found)
    ]


def _hanging(session: Session, run: ImportRun) -> list[str]:
    """What has come since to the people whom this import made."""
    problems = []
    for table, words, imported in HANGING:
        others = "AND (import_id IS NULL OR import_id != ?)" if imported else ""
        count = (
            _cursor(session)
            .execute(
                f"SELECT count(*) FROM {table} WHERE person_id IN (SELECT id FROM person WHERE import_id = ?)"
                f" {others}",
                (run.id, run.id) if imported else (run.id,),
            )
            .fetchone()[0]
        )
        if count:
            problems.append(f"{count:,} {words} have come since for the customers that it made")
    return problems


def _edited(session: Session, run: ImportRun) -> list[str]:
    """Facts that a person changed by hand after this import had changed them."""
    count = (
        _cursor(session)
        .execute(
            """SELECT count(DISTINCT person_id) FROM person_change WHERE at >= ? AND person_id IN
               (SELECT row_id FROM import_change WHERE import_id = ? AND place = 'person')""",
            (int((run.ended_at or run.started_at).timestamp()), run.id),
        )
        .fetchone()[0]
    )
    return [f"{count:,} of the customers that it changed have been changed by hand since"] if count else []


def undo(session: Session, run: ImportRun, now: datetime, by: str) -> None:
    """Puts the book back to how it was before the import; the caller has asked ``what_depends``."""
    _put_back(session, run)
    _withdraw_consents(session, run, now, by)
    cursor = _cursor(session)
    for table in (*MADE_BY_IMPORT, "person"):
        cursor.execute(f"DELETE FROM {table} WHERE import_id = ?", (run.id,))
    _forget_items(cursor, run.id)
    run.state, run.undone_at, run.undone_by = "undone", now, by


def _put_back(session: Session, run: ImportRun) -> None:
    changes = session.scalars(
        select(ImportChange).where(ImportChange.import_id == run.id).order_by(ImportChange.id.desc())
    )
    cursor = _cursor(session)
    for change in changes:
        before: dict[str, Any] = dict(change.before)
        lines = before.pop("lines", None)
        if not change.before:
            cursor.execute(f"DELETE FROM {change.place} WHERE id = ?", (change.row_id,))
        if lines is not None:
            _put_lines_back(cursor, change.row_id, lines)
        if before:
            sets = ", ".join(f'"{name}" = ?' for name in before)
            cursor.execute(
                f"UPDATE {change.place} SET {sets} WHERE id = ?",
                (*map(_plain, before.values()), change.row_id),
            )


def _plain(value: Any) -> Any:
    return json.dumps(value) if isinstance(value, dict | list) else value


def _put_lines_back(cursor: Any, order_id: int, lines: list[list[int]]) -> None:
    cursor.execute("DELETE FROM order_line WHERE order_id = ?", (order_id,))
    cursor.executemany(
        f"INSERT INTO order_line ({LINE_COLUMNS}) VALUES (?, ?, ?, ?, ?)",
        [(order_id, item or None, quantity, money, discount) for item, quantity, money, discount in lines],
    )


def _withdraw_consents(session: Session, run: ImportRun, now: datetime, by: str) -> None:
    """The log is only ever added to: for people who stay, a line says what held before the import."""
    cursor = _cursor(session)
    cursor.execute(
        """SELECT DISTINCT person_id, channel FROM consent_entry
           WHERE import_id = ? AND person_id NOT IN (SELECT id FROM person WHERE import_id = ?)""",
        (run.id, run.id),
    )
    for person_id, channel in cursor.fetchall():
        states = cursor.execute(
            "SELECT state, import_id FROM consent_entry WHERE person_id = ? AND channel = ? ORDER BY at DESC,"
            " id DESC",
            (person_id, channel),
        ).fetchall()
        if states[0][1] != run.id:
            continue  # the person has spoken since
        before = next((state for state, import_id in states if import_id != run.id), "never asked")
        cursor.execute(
            'INSERT INTO consent_entry (person_id, channel, state, at, source, "by")'
            " VALUES (?, ?, ?, ?, ?, ?)",
            (person_id, channel, before, int(now.timestamp()), f"import {run.id} undone", by),
        )


def _forget_items(cursor: Any, import_id: int) -> None:
    """Items that came with the file go with it, unless something else names them by now."""
    used = " UNION ".join(
        f"SELECT item_id FROM {table} WHERE item_id IS NOT NULL"
        for table in ("order_line", "appointment", "answer")
    )
    cursor.execute(
        "UPDATE item SET import_id = NULL WHERE import_id = ? AND id IN (" + used + ")", (import_id,)
    )
    cursor.execute("DELETE FROM item WHERE import_id = ?", (import_id,))


def _cursor(session: Session) -> Any:
    session.flush()
    return session.connection().connection.cursor()
