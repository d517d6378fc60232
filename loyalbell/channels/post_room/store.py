"""Where the post room keeps what arrived: each mail as the RFC 5322 text it came as."""

import sqlite3
from dataclasses import dataclass
from datetime import UTC, datetime
from email import policy
from email.message import EmailMessage
from email.parser import BytesHeaderParser, BytesParser
from pathlib import Path
from threading import Lock
from typing import Any

SCHEMA = """
CREATE TABLE IF NOT EXISTS mail (
    id INTEGER PRIMARY KEY, arrived_at INTEGER NOT NULL, sender TEXT NOT NULL, recipient TEXT NOT NULL,
    message_id TEXT NOT NULL, subject TEXT NOT NULL, raw BLOB NOT NULL);
CREATE INDEX IF NOT EXISTS mail_message_id ON mail (message_id);
"""


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


class PostRoomStore:
    """A file of its own beside the book: it stands for other people's mailboxes."""

    def __init__(self, data: Path) -> None:
        self._lock = Lock()
        self._connection = sqlite3.connect(data / "post_room.sqlite3", check_same_thread=False)
        self._connection.executescript(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=OFF; PRAGMA busy_timeout=30000;" + SCHEMA
        )

    def _query(self, sql: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        with self._lock:
            return self._connection.execute(sql, values).fetchall()

    def keep(self, sender: str, recipient: str, raw: bytes, at: datetime) -> None:
        headers = BytesHeaderParser(policy=policy.default).parsebytes(raw)
        row = (int(at.timestamp()), sender, recipient, str(headers["Message-ID"] or "").strip())
        with self._lock, self._connection:
            self._connection.execute(
                "INSERT INTO mail (arrived_at, sender, recipient, message_id, subject, raw) VALUES (?, ?, ?, ?, ?, ?)",
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
