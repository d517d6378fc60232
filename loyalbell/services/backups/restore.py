"""Restoring a backup: the book starts silent, and what the lost one may have sent since is asked, not sent.

A restored book plans again whatever it had not sent when the backup was made. The lost book may have sent
some of it since. So nothing that was due before the restore is simply sent: the network is asked where it can
be, and a person otherwise (``services/delivery/perhaps_gone.py``).
"""

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import PAUSED, PLANNED
from loyalbell.services.application import Application
from loyalbell.services.clock import Clock
from loyalbell.services.delivery.leader_lease import LOCK_FILE
from loyalbell.services.delivery.message_keys import MessageKey
from loyalbell.services.delivery.outbox import become_all
from loyalbell.services.delivery.perhaps_gone import RestoredSettings, ask_of_all
from loyalbell.storage import backup_file, column_files, opening, schema
from loyalbell.storage.backup_file import BackupProblem, Contents
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.file_lock import FileLock
from loyalbell.storage.schema import Delivery, LeaderLease, Shop

BESIDE = ("-wal", "-shm", "-journal")


@dataclass(frozen=True)
class Restored:
    """``asked``: messages that are asked about; ``kept_aside``: where the book lies that was there before."""

    contents: Contents
    asked: int
    until: datetime
    kept_aside: Path | None


def restore(backup: Path, data: Path, replace: bool = False, clock: Clock | None = None) -> Restored:
    """Puts the book of a backup into ``data``. Raises ``BackupProblem`` and ``BookProblem``, with everything
    as it was.

    A book that is there is kept aside where ``replace`` says so, and refused otherwise; one that a running
    program uses is always refused.
    """
    data.mkdir(parents=True, exist_ok=True, mode=opening.FOLDER_MODE)
    there = data / BOOK_FILE
    if there.exists() and not replace:
        raise BackupProblem(
            f"There is a book in {data} already. To restore over it, add --replace: it is kept aside in a"
            " folder beside the new one."
        )
    with _not_running(data), backup_file.unpacked(backup, data) as (folder, contents):
        asks = had_key(folder / BOOK_FILE)
        application = Application(folder, clock)
        try:
            with application.database.transaction() as session:
                asked, until = _begin_silent(session, application, contents, asks)
        finally:
            application.close()
        _one_file(folder / BOOK_FILE)
        column_files.remove(data)
        aside = _keep_aside(data) if there.exists() else None
        for name in backup_file.ALONG:
            if (folder / name).exists():
                (folder / name).rename(data / name)
        (folder / BOOK_FILE).replace(there)
        opening.sync_file(data)
    return Restored(contents, asked, until, aside)


@contextmanager
def _not_running(data: Path) -> Iterator[None]:
    """Nobody may run on the folder, nor begin to meanwhile. A program that crashed has let go of its lock."""
    lock = FileLock(data / LOCK_FILE)
    if not lock.take():
        raise BackupProblem(f"Loyal Bell is running on {data / BOOK_FILE}. Stop it first, then restore.")
    try:
        yield
    finally:
        lock.release()


def had_key(book: Path) -> bool:
    """Whether the book gave its messages names that can be worked out again as the backup was made. Without
    that a network that does not know a name says nothing.
    """
    connection = sqlite3.connect(book)
    try:
        found = connection.execute(
            "SELECT value FROM setting WHERE name = ?", (MessageKey.kept_as,)
        ).fetchone()
    except sqlite3.OperationalError:
        return False
    finally:
        connection.close()
    return found is not None


def _begin_silent(
    session: Session, application: Application, contents: Contents, asks: bool
) -> tuple[int, datetime]:
    now = application.clock.now()
    shop = session.get(Shop, 1)
    if shop is not None:
        shop.ringing = False
    due = (Delivery.state == PLANNED) & (Delivery.due_at <= now)
    resting = (Delivery.state == PAUSED) & (Delivery.due_at <= now)
    asked = session.scalar(select(func.count()).where(due | resting)) or 0
    # what its sequence's pause holds may have been let go in the lost book
    become_all(session, resting, PLANNED)
    ask_of_all(session, due, now)
    RestoredSettings(until=now, made_at=contents.book_time, asked=asked, is_seen=False, asks=asks).save(
        session
    )
    # whoever signed out since, or was signed out, stays so
    session.execute(delete(schema.Session))
    lease = session.get(LeaderLease, 1)
    if lease is not None:
        lease.holder, lease.pid = "", 0
    application.note(
        session, "restore", "restored a backup", made=contents.made_at.isoformat(), messages_asked=asked
    )
    return asked, now


def _one_file(book: Path) -> None:
    """Everything that is written stands in the one file, which can be moved."""
    connection = sqlite3.connect(book)
    try:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.execute("PRAGMA journal_mode=DELETE")
    finally:
        connection.close()
    opening.sync_file(book)


def _keep_aside(data: Path) -> Path:
    """The book that is there moves into a folder of its own, as it is."""
    aside = data / f"replaced-{datetime.now(UTC):%Y%m%d-%H%M%S}"
    aside.mkdir(mode=opening.FOLDER_MODE)
    for name in backup_file.ALONG:
        if (data / name).exists():
            (data / name).rename(aside / name)
    for end in ("", *BESIDE):
        path = data / (BOOK_FILE + end)
        if path.exists():
            path.rename(aside / path.name)
    return aside
