"""The book: one SQLite file in write-ahead mode, read from many threads and written by one at a time."""

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from threading import local
from typing import Any

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import DatabaseError, NoResultFound
from sqlalchemy.orm import Session

from loyalbell.storage import change_log, change_tracking, column_files, erased_addresses, log_chain, opening
from loyalbell.storage.opening import BUSY_SECONDS
from loyalbell.storage.secret_box import SECRETS, SecretBox
from loyalbell.storage.writer_turn import WriterTurn

BOOK_FILE = "book.sqlite3"
POOLED = 24
"""Connections kept open. Beyond them more are opened and closed again: nobody ever waits for one, so that no
two threads can wait for each other.
"""


WRITES = "writes"
"""In ``Session.info`` of a transaction."""
PATIENCE: ContextVar[float] = ContextVar("patience", default=float(BUSY_SECONDS))
"""How many seconds whoever writes waits for another writer; whoever waits for a page waits less."""


class NotOnFile(LookupError):
    """A row that was asked for by its number is not there, or not any more."""


class BookBusy(Exception):
    """Another has been writing for so long that this was given up. Nothing was changed."""


class DiskFull(Exception):
    """The book could not be written, since there is no room on the disk. Nothing was changed."""


class BookDamaged(Exception):
    """What was asked of the book cannot be read. Nothing was changed."""


class WithinTransaction(RuntimeError):
    """A second transaction, or the snapshot, was asked for while this thread writes."""


def _set_up_connection(connection: DBAPIConnection, _record: object) -> None:
    assert isinstance(connection, sqlite3.Connection)
    connection.isolation_level = None
    for pragma in (
        "journal_mode=WAL",
        "foreign_keys=ON",
        "synchronous=FULL",
        "temp_store=MEMORY",
        "cache_size=-32768",
        "secure_delete=ON",  # what is erased is gone from the file too, not only from its tables
    ):
        connection.execute(f"PRAGMA {pragma}")


def engine_for(path: Path) -> Engine:
    """An engine on the file at ``path``. Sessions begin their transactions explicitly.

    What is written never stands in the log: it is about customers.
    """
    engine = create_engine(
        f"sqlite:///{path}",
        connect_args={"timeout": BUSY_SECONDS},
        pool_size=POOLED,
        max_overflow=-1,
        hide_parameters=True,
    )
    event.listen(engine, "connect", _set_up_connection)
    return engine


class Database:
    """The shop's database in folder ``data``: the one truth everything else is read from.

    ``put_away`` is given a book of an earlier version and its migration, and keeps a copy of it.
    """

    def __init__(
        self,
        data: Path,
        put_away: Callable[[Path, str], None] = lambda path, revision: None,
        columns: column_files.Believed | None = None,
    ) -> None:
        """With ``columns`` the book is open already in the process that gives them."""
        self.data = data
        self.path = data / BOOK_FILE
        self.is_owner = columns is None
        self.columns = columns
        """The files of the snapshot that the book was closed with, where they may be believed."""
        if self.is_owner:
            self.columns = column_files.break_seal(self.path)
            opening.prepare(self.path, put_away)
        self.engine = engine_for(self.path)
        self.turn = WriterTurn()
        self.secrets = SecretBox(data)
        self._mine = local()

    @property
    def is_writing(self) -> bool:
        """Whether this thread is within a transaction."""
        return getattr(self._mine, "session", None) is not None

    def _info(self) -> dict[Any, Any]:
        """What every session carries: the box that opens sealed passwords and keys."""
        return {SECRETS: self.secrets}

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session that sees one consistent state and writes nothing.

        Within a transaction it reads what that has flushed, on the same connection: who holds the book's one
        writer never waits for another connection.
        """
        own: Session | None = getattr(self._mine, "session", None)
        if own is not None:
            with (
                Session(bind=own.connection(), expire_on_commit=False, info=self._info()) as session,
                _in_our_words(),
            ):
                yield session
            return
        with (
            Session(self.engine, expire_on_commit=False, info=self._info()) as session,
            _in_our_words(),
        ):
            session.connection().exec_driver_sql("BEGIN")
            try:
                yield session
            finally:
                session.connection().exec_driver_sql("ROLLBACK")

    @contextmanager
    def transaction(self) -> Iterator[Session]:
        """The unit of work: the one writer. Its changes are kept together at the end, or not at all.

        What it changed of the snapshot is noted by itself (``change_tracking``). Raises ``BookBusy`` where
        its turn does not come within ``PATIENCE`` seconds, and ``DiskFull``.
        """
        if self.is_writing:
            raise WithinTransaction("this thread writes already; do it in one transaction")
        if not self.turn.take(PATIENCE.get()):
            raise BookBusy("Another has been writing for a long time. Nothing was changed; try again soon.")
        try:
            with (
                _in_our_words(),
                Session(self.engine, expire_on_commit=False, info=self._info() | {WRITES: True}) as session,
                self._writing(session),
            ):
                yield session
        finally:
            self.turn.give_back()

    @contextmanager
    def turn_for_others(self, session: Session) -> Iterator[int]:
        """Within a transaction: keeps what it has written, lets others write, and goes on afterwards. Gives
        the newest note of the change log as the others' turn begins.
        """
        connection = session.connection()
        session.flush()
        change_tracking.write_notes(session)
        newest = change_log.newest(session)
        connection.exec_driver_sql("COMMIT")
        self._mine.session = None
        self.turn.give_back()
        try:
            yield newest
        finally:
            while not self.turn.take(float(BUSY_SECONDS)):
                pass
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            self._mine.session = session
            log_chain.forget_tail(session)

    @contextmanager
    def _writing(self, session: Session) -> Iterator[None]:
        connection = session.connection()
        change_tracking.track(connection)
        erased_addresses.watch(connection, self.secrets)
        connection.exec_driver_sql(f"PRAGMA busy_timeout={int(PATIENCE.get() * 1_000)}")
        connection.exec_driver_sql("BEGIN IMMEDIATE")
        self._mine.session = session
        try:
            yield
            session.flush()
            change_tracking.write_notes(session)
            connection.exec_driver_sql("COMMIT")
        except BaseException:
            if connection.connection.driver_connection.in_transaction:  # type: ignore[union-attr]
                connection.exec_driver_sql("ROLLBACK")
            raise
        finally:
            self._mine.session = None

    def close(self, columns: Path | None = None) -> None:
        """``columns``: files of the snapshot to be believed when the book is opened next."""
        if columns is None:
            self.engine.dispose()
            return
        with self.reading() as session:
            newest = change_log.newest(session)
        self.engine.dispose()
        column_files.seal(self.path, columns, newest)


@contextmanager
def _in_our_words() -> Iterator[None]:
    """What SQLite or SQLAlchemy say, as one of our own exceptions where we have one for it."""
    try:
        yield
    except NoResultFound as missing:
        raise NotOnFile(str(missing)) from missing
    except DatabaseError as error:
        said = str(error.orig)
        for words, kind in KINDS.items():
            if words in said:
                raise kind(said) from error
        raise


KINDS: dict[str, type[Exception]] = {
    "database is locked": BookBusy,
    "disk is full": DiskFull,
    "disk I/O error": DiskFull,
    "malformed": BookDamaged,
    "not a database": BookDamaged,
}
"""What SQLite says, and what it means for whoever asked."""
