"""A book of every earlier version, with a row in every table, opens as this one, and nothing is lost."""

import sqlite3
import unittest
from pathlib import Path
from typing import Any

from alembic import command
from alembic.script import ScriptDirectory

from loyalbell.storage.database import BOOK_FILE, Database
from loyalbell.storage.opening import migration_config
from loyalbell.storage.references import rebuild
from tests.support import scratch_folder

RENAMED = {
    "touch": "delivery",
    "touch_event": "delivery_event",
    "tick_lock": "leader_lease",
    "book_change": "change_log",
}
INNER = ("sqlite_", "alembic_", "person_search")
NOT_KEPT = {"change_log", "book_version", "reference"}
"""Notes for snapshots in memory, of which none survives; a table that only early books had; what uses what,
which is made anew from those that use.
"""
SPECIAL: dict[str, Any] = {
    "state": "planned",
    "rule": '{"version": 1, "root": {"lines": []}}',
    "draft": '{"version": 1}',
    "plan": "{}",
    "terms": '{"version": 1, "kind": "percent", "percent": 10}',
    "block": '{"kind": "text", "text": "x"}',
    "content": '{"version": 2, "writings": [{"channel": "email", "subject": "x"}]}',
    "zone": "Europe/London",
    "currency": "GBP",
    "country": "GB",
    "name": "first",
    "by_weekday": "[]",
    "let_in": "{}",
}


def revisions() -> list[str]:
    script = ScriptDirectory.from_config(migration_config("sqlite://"))
    return [one.revision for one in script.walk_revisions()][::-1]


def tables_of(connection: sqlite3.Connection) -> list[str]:
    rows = connection.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
    return [name for (name,) in rows if not name.startswith(INNER)]


def value_of(name: str, kind: str, references: dict[str, str], number: int) -> Any:
    if name in references:
        return 1
    if name in SPECIAL and not (name == "plan" and "JSON" not in kind.upper()):
        return SPECIAL[name]
    if "INT" in kind.upper() or "BOOL" in kind.upper():
        return number
    if "JSON" in kind.upper():
        return "{}"
    if "BLOB" in kind.upper():
        return b"x"
    if "DATE" in kind.upper():
        return "2026-01-01"
    return f"{name} {number}"


def fill(path: Path) -> dict[str, int]:
    """A row in every table, and a second where nothing forbids it. Returns the number of rows by table."""
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA foreign_keys = OFF")
    for table in tables_of(connection):
        columns = connection.execute(f"PRAGMA table_info('{table}')").fetchall()
        references = {row[3]: row[2] for row in connection.execute(f"PRAGMA foreign_key_list('{table}')")}
        for number in (1, 2):
            row = {
                name: number if pk else value_of(name, kind or "", references, number)
                for _, name, kind, _, _, pk in columns
            }
            if table == "touch":
                row["state"] = "handing" if number == 1 else "sent"
            if table == "merge":
                row["snapshot"] = '{"steps": [["moved", "touch", "person_id", [1], 2]]}'
            marks = ", ".join("?" * len(row))
            names = ", ".join(f'"{name}"' for name in row)
            try:
                connection.execute(f"INSERT INTO {table} ({names}) VALUES ({marks})", list(row.values()))
            except sqlite3.IntegrityError:
                if number == 1:
                    raise
    connection.commit()
    counts = {
        table: connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
        for table in tables_of(connection)
    }
    connection.close()
    return counts


ADDED = {"setting": 1}
"""Rows that an upgrade adds: which messages may have left with links that were not signed (0025)."""


class MigrationsTest(unittest.TestCase):
    def test_from_every_earlier_version_with_data_in_every_table(self) -> None:
        for revision in revisions()[:-1]:
            with self.subTest(revision=revision):
                folder = scratch_folder(self)
                path = folder / BOOK_FILE
                command.upgrade(migration_config(f"sqlite:///{path}"), revision)
                before = fill(path)
                self.assertGreater(len(before), 20)
                database = Database(folder)
                connection = sqlite3.connect(path)
                for table, count in before.items():
                    now = RENAMED.get(table, table)
                    if now not in NOT_KEPT:
                        kept = connection.execute(f"SELECT count(*) FROM {now}").fetchone()[0]
                        self.assertEqual(kept, count + ADDED.get(now, 0), table)
                problems = connection.execute("PRAGMA integrity_check").fetchall()
                self.assertEqual(problems, [("ok",)])
                self.assertEqual(connection.execute("PRAGMA foreign_key_check").fetchall(), [])
                connection.close()
                database.close()

    def test_what_was_in_flight_and_what_merges_name_take_the_new_names(self) -> None:
        folder = scratch_folder(self)
        command.upgrade(migration_config(f"sqlite:///{folder / BOOK_FILE}"), "0008")
        fill(folder / BOOK_FILE)
        Database(folder).close()
        connection = sqlite3.connect(folder / BOOK_FILE)
        states = connection.execute("SELECT state FROM delivery ORDER BY id").fetchall()
        self.assertEqual(states, [("in_flight",), ("sent",)])
        steps = connection.execute("SELECT snapshot FROM merge").fetchall()
        self.assertTrue(all('"delivery"' in step and '"touch"' not in step for (step,) in steps))
        connection.close()

    def test_what_uses_what_is_filled_by_the_upgrade(self) -> None:
        folder = scratch_folder(self)
        command.upgrade(migration_config(f"sqlite:///{folder / BOOK_FILE}"), "0010")
        fill(folder / BOOK_FILE)
        database = Database(folder)
        connection = sqlite3.connect(folder / BOOK_FILE)
        query = "SELECT user_kind, used_kind FROM reference ORDER BY 1, 2"
        written = connection.execute(query).fetchall()
        self.assertIn(("campaign", "segment"), written)
        with database.transaction() as session:
            rebuild(session)
        self.assertEqual(connection.execute(query).fetchall(), written)
        connection.close()
        database.close()
