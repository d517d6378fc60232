"""Where the post room keeps what arrived: mails as the RFC 5322 text they came as, texts and chat messages as
JSON.
"""

import json
import sqlite3
from dataclasses import dataclass
from datetime import UTC, datetime
from email import policy
from email.message import EmailMessage
from email.parser import BytesHeaderParser, BytesParser
from mailbox import mboxMessage
from pathlib import Path
from threading import Lock
from typing import Any

SCHEMA = """
CREATE TABLE IF NOT EXISTS mail (
    id INTEGER PRIMARY KEY, arrived_at INTEGER NOT NULL, sender TEXT NOT NULL, recipient TEXT NOT NULL,
    message_id TEXT NOT NULL, subject TEXT NOT NULL, raw BLOB NOT NULL);
CREATE INDEX IF NOT EXISTS mail_message_id ON mail (message_id);
CREATE TABLE IF NOT EXISTS short (
    id INTEGER PRIMARY KEY, channel TEXT NOT NULL, arrived_at INTEGER NOT NULL, recipient TEXT NOT NULL,
    message_id TEXT NOT NULL UNIQUE, body TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS short_recipient ON short (recipient);
CREATE TABLE IF NOT EXISTS mood (name TEXT PRIMARY KEY, value REAL NOT NULL);
CREATE TABLE IF NOT EXISTS reaction (
    id INTEGER PRIMARY KEY, due_at INTEGER NOT NULL, kind TEXT NOT NULL, channel TEXT NOT NULL,
    about INTEGER NOT NULL,
    done INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS reaction_due ON reaction (done, due_at);
CREATE TABLE IF NOT EXISTS seen (channel TEXT PRIMARY KEY, about INTEGER NOT NULL);
"""
MOODS = {
    "slow_seconds": "seconds of waiting before each message is taken",
    "refused_of_100": "of a hundred messages so many are refused for now",
    "lost_of_100": "of a hundred connections so many break off half-way",
}


@dataclass(frozen=True)
class Mail:
    """One arrived mail; ``parsed`` only where the whole mail was asked for."""

    id: int
    arrived_at: datetime
    sender: str
    recipient: str
    subject: str
    raw: bytes
    parsed: EmailMessage | None = None


@dataclass(frozen=True)
class Short:
    """One arrived text or chat message; ``body`` as it was handed over."""

    id: int
    channel: str
    arrived_at: datetime
    recipient: str
    message_id: str
    body: dict[str, Any]


@dataclass(frozen=True)
class Reaction:
    """What one of the made-up people will do, and when; ``about`` is the id of the mail or message."""

    id: int
    due_at: int
    kind: str
    channel: str
    about: int


class PostRoomStore:
    """A file of its own beside the book: it stands for other people's mailboxes and phones."""

    def __init__(self, data: Path) -> None:
        self._lock = Lock()
        self._connection = sqlite3.connect(data / "post_room.sqlite3", check_same_thread=False)
        self._connection.executescript(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=OFF; PRAGMA busy_timeout=30000;" + SCHEMA
        )

    def _query(self, sql: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        with self._lock:
            return self._connection.execute(sql, values).fetchall()

    def _write(self, sql: str, values: tuple[Any, ...]) -> int:
        with self._lock, self._connection:
            return self._connection.execute(sql, values).rowcount

    # mails

    def keep(self, sender: str, recipient: str, raw: bytes, at: datetime) -> None:
        headers = BytesHeaderParser(policy=policy.default).parsebytes(raw)
        row = (int(at.timestamp()), sender, recipient, str(headers["Message-ID"] or "").strip())
        self._write(
            "INSERT INTO mail (arrived_at, sender, recipient, message_id, subject, raw) VALUES (?, ?, ?, ?,"
            " ?, ?)",
            (*row, str(headers["Subject"] or ""), raw),
        )

    def has(self, message_id: str) -> bool:
        return bool(self._query("SELECT 1 FROM mail WHERE message_id = ? LIMIT 1", (message_id,)))

    def count(self, search: str = "") -> int:
        where, values = _matching(search)
        return int(self._query(f"SELECT count(*) FROM mail {where}", values)[0][0])

    def newest(self, search: str = "", limit: int = 50, skip: int = 0) -> list[Mail]:
        where, values = _matching(search)
        rows = self._query(
            f"SELECT id, arrived_at, sender, recipient, subject, x'' FROM mail {where} "
            "ORDER BY id DESC LIMIT ? OFFSET ?",
            (*values, limit, skip),
        )
        return [_mail(row) for row in rows]

    def open(self, mail_id: int) -> Mail | None:
        rows = self._query(
            "SELECT id, arrived_at, sender, recipient, subject, raw FROM mail WHERE id = ?", (mail_id,)
        )
        return _mail(rows[0], parse=True) if rows else None

    def recipients(self) -> list[str]:
        """One entry a mail, for checks that nobody got two."""
        return [row[0] for row in self._query("SELECT recipient FROM mail")]

    def as_mbox(self) -> bytes:
        """Every mail in one mailbox file (RFC 4155)."""
        found = []
        for sender, arrived, raw in self._query("SELECT sender, arrived_at, raw FROM mail ORDER BY id"):
            mail = mboxMessage(raw)
            mail.set_from(sender or "MAILER-DAEMON", datetime.fromtimestamp(arrived, UTC).timetuple())
            found.append(f"From {mail.get_from()}\n".encode() + mail.as_bytes(unixfrom=False) + b"\n")
        return b"".join(found)

    # texts and chat messages

    def keep_short(
        self, channel: str, message_id: str, recipient: str, body: dict[str, Any], at: datetime
    ) -> bool:
        """False where the same message arrived before: it is kept once."""
        row = (channel, int(at.timestamp()), recipient, message_id, json.dumps(body))
        sql = (
            "INSERT OR IGNORE INTO short (channel, arrived_at, recipient, message_id, body) VALUES (?, ?, ?,"
            " ?, ?)"
        )
        return self._write(sql, row) > 0

    def has_short(self, message_id: str) -> bool:
        return bool(self._query("SELECT 1 FROM short WHERE message_id = ?", (message_id,)))

    def shorts(self, channel: str, search: str = "", limit: int = 50, skip: int = 0) -> list[Short]:
        like = f"%{search.strip()}%"
        rows = self._query(
            "SELECT * FROM short WHERE channel = ? AND (recipient LIKE ? OR body LIKE ?) ORDER BY id DESC"
            " LIMIT ? OFFSET ?",
            (channel, like, like, limit, skip),
        )
        return [_short(row) for row in rows]

    def count_shorts(self, channel: str, search: str = "") -> int:
        like = f"%{search.strip()}%"
        sql = "SELECT count(*) FROM short WHERE channel = ? AND (recipient LIKE ? OR body LIKE ?)"
        return int(self._query(sql, (channel, like, like))[0][0])

    def open_short(self, at: int) -> Short | None:
        rows = self._query("SELECT * FROM short WHERE id = ?", (at,))
        return _short(rows[0]) if rows else None

    # moods

    def mood(self, name: str) -> float:
        rows = self._query("SELECT value FROM mood WHERE name = ?", (name,))
        return float(rows[0][0]) if rows else 0.0

    def set_mood(self, name: str, value: float) -> None:
        self._write("INSERT OR REPLACE INTO mood VALUES (?, ?)", (name, value))

    # what the made-up people will do

    def unseen(self, channel: str, limit: int = 500) -> list[tuple[int, int, str]]:
        """(id, arrived, recipient) of what arrived since it was last asked."""
        table, only = ("mail", "") if channel == "email" else ("short", "AND channel = ?")
        seen = self._query("SELECT about FROM seen WHERE channel = ?", (channel,))
        values = (int(seen[0][0]) if seen else 0, *([channel] if only else []), limit)
        rows = self._query(
            f"SELECT id, arrived_at, recipient FROM {table} WHERE id > ? {only} ORDER BY id LIMIT ?", values
        )
        if rows:
            self._write("INSERT OR REPLACE INTO seen VALUES (?, ?)", (channel, rows[-1][0]))
        return [(int(row[0]), int(row[1]), str(row[2])) for row in rows]

    def plan(self, channel: str, about: int, reactions: list[tuple[int, str]]) -> None:
        """Reactions as (due, kind)."""
        with self._lock, self._connection:
            self._connection.executemany(
                "INSERT INTO reaction (due_at, kind, channel, about) VALUES (?, ?, ?, ?)",
                [(due, kind, channel, about) for due, kind in reactions],
            )

    def due(self, now: int, limit: int = 200) -> list[Reaction]:
        rows = self._query(
            "SELECT id, due_at, kind, channel, about FROM reaction WHERE done = 0 AND due_at <= ? ORDER BY"
            " due_at, id LIMIT ?",
            (now, limit),
        )
        return [Reaction(*row) for row in rows]

    def next_due(self) -> int | None:
        found = self._query("SELECT min(due_at) FROM reaction WHERE done = 0")[0][0]
        return None if found is None else int(found)

    def settle(self, reaction_id: int) -> None:
        self._write("UPDATE reaction SET done = 1 WHERE id = ?", (reaction_id,))

    def close(self) -> None:
        self._connection.close()


def _matching(search: str) -> tuple[str, tuple[str, ...]]:
    if not search.strip():
        return "", ()
    like = f"%{search.strip()}%"
    return "WHERE recipient LIKE ? OR subject LIKE ?", (like, like)


def _mail(row: tuple[Any, ...], parse: bool = False) -> Mail:
    mail_id, arrived, sender, recipient, subject, raw = row
    parsed = BytesParser(policy=policy.default).parsebytes(raw) if parse else None
    assert parsed is None or isinstance(parsed, EmailMessage)
    return Mail(mail_id, datetime.fromtimestamp(arrived, UTC), sender, recipient, subject, bytes(raw), parsed)


def _short(row: tuple[Any, ...]) -> Short:
    at, channel, arrived, recipient, message_id, body = row
    return Short(at, channel, datetime.fromtimestamp(arrived, UTC), recipient, message_id, json.loads(body))
