"""Bringing the book to the newest migration, or saying in words why it cannot be opened.

A new book is made beside its place and put there whole. An older one is brought up in one transaction, after
a backup of it: killed at any instant, there is the old book or the new one.
"""

import os
import secrets
import sqlite3
import time
import warnings
from collections.abc import Callable
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, create_engine, event
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import DatabaseError, SAWarning
from sqlalchemy.orm import Session
from sqlalchemy.pool import NullPool

from loyalbell.storage import references

MIGRATIONS = Path(__file__).parent / "migrations"
BUSY_SECONDS = 60
BEING_MADE = ".being-made-"
LEFT_OVER_SECONDS = 3_600
"""What a killed start left beside the book is taken away after so long: another may be making one now."""
FOLDER_MODE, FILE_MODE = 0o700, 0o600


class BookProblem(Exception):
    """The book cannot be opened; the words say which, why, and what to do. Nothing was changed."""


class DatabaseTooNew(BookProblem):
    """The book was written by a newer Loyal Bell than this one."""


def migration_config(url: str = "sqlite://", connection: Connection | None = None) -> Config:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url)
    config.attributes["connection"] = connection
    return config


def newest_revision() -> str:
    return str(ScriptDirectory.from_config(migration_config()).get_current_head())


def prepare(path: Path, put_away: Callable[[Path, str], None]) -> None:
    """Makes the book at ``path`` or brings it up to date. Raises ``BookProblem``.

    ``put_away`` is given the book and its migration before it is changed, and keeps a copy.
    """
    _prepare_folder(path.parent)
    if not path.exists():
        _make(path)
        return
    revision = revision_of(path)
    if revision == newest_revision():
        _check_writable(path)
        return
    _check_known(path, revision)
    _check_writable(path)
    put_away(path, revision)
    _upgrade(path)


def revision_of(path: Path) -> str:
    """The migration that a book stands at. Raises ``BookProblem`` where it is none."""
    if path.stat().st_size == 0:
        raise BookProblem(
            f"{path} is empty: it holds no book. If it should, restore a backup with"
            " “loyalbell restore”; if you want to begin anew, move the file away first."
        )
    connection = None
    try:
        connection = sqlite3.connect(path, timeout=BUSY_SECONDS)
        tables = {
            name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        }
        if "alembic_version" not in tables or not tables & {"shop", "person"}:
            raise BookProblem(
                f"{path} is a database, but not a book of Loyal Bell. Move it away, or choose another"
                " folder with --data."
            )
        found = connection.execute("SELECT version_num FROM alembic_version").fetchone()
    except sqlite3.DatabaseError as error:
        raise BookProblem(_words(path, error)) from error
    finally:
        if connection is not None:
            connection.close()
    if found is None:
        raise BookProblem(f"{path} does not say which version it is of. {RESTORE}")
    return str(found[0])


RESTORE = "Restore a backup with “loyalbell restore”."


def _words(path: Path, error: Exception) -> str:
    said = str(error)
    if "readonly" in said or "read-only" in said or "unable to open" in said:
        return (
            f"{path} cannot be written to. Give the user that runs Loyal Bell the right to write the file and"
            " its folder."
        )
    if "locked" in said:
        return f"{path} is in use by another program. Close that one, or wait until it is done."
    if "disk is full" in said or "disk I/O" in said:
        return f"The disk that holds {path} is full or failing ({said}). Make room on it, then start again."
    return f"{path} is damaged ({said}). Nothing was changed. {RESTORE}"


def _check_known(path: Path, revision: str) -> None:
    script = ScriptDirectory.from_config(migration_config())
    if revision not in {known.revision for known in script.walk_revisions()}:
        raise DatabaseTooNew(
            f"{path} was written by a newer version of Loyal Bell (its book is at step {revision}, this"
            f" program knows up to {newest_revision()}). Open it with that version, or restore a backup that"
            " was made before the upgrade."
        )


def _check_writable(path: Path) -> None:
    try:
        connection = sqlite3.connect(path, timeout=BUSY_SECONDS, isolation_level=None)
        try:
            connection.execute("BEGIN IMMEDIATE")
            # a file that may only be read lets a transaction begin, and refuses the first change
            connection.execute("UPDATE alembic_version SET version_num = version_num")
            connection.execute("ROLLBACK")
        finally:
            connection.close()
    except sqlite3.DatabaseError as error:
        raise BookProblem(_words(path, error)) from error


def _prepare_folder(folder: Path) -> None:
    """The data of a shop's customers are nobody else's on the machine."""
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=FOLDER_MODE)
    except OSError as error:
        raise BookProblem(f"The folder {folder} cannot be made: {error.strerror}.") from error


def _make(path: Path) -> None:
    """A whole new book, put in place at once; a book that another process put there first stays."""
    for left in path.parent.glob(path.name + BEING_MADE + "*"):
        if time.time() - left.stat().st_mtime > LEFT_OVER_SECONDS:
            left.unlink(missing_ok=True)
    making = path.with_name(path.name + BEING_MADE + secrets.token_hex(4))
    try:
        os.close(os.open(making, os.O_CREAT | os.O_EXCL | os.O_WRONLY, FILE_MODE))
        _upgrade(making)
        sync_file(making)
        try:
            os.link(making, path)
        except FileExistsError:
            return
        sync_file(path.parent)
    except OSError as error:
        raise BookProblem(f"No book can be made in {path.parent}: {error.strerror}.") from error
    except DatabaseError as error:
        raise BookProblem(_words(path, error)) from error
    finally:
        for end in ("", "-journal", "-wal", "-shm"):
            making.with_name(making.name + end).unlink(missing_ok=True)


def sync_file(path: Path) -> None:
    """Makes sure that a file, or which files a folder holds, outlasts a power cut."""
    number = os.open(path, os.O_RDONLY)
    try:
        os.fsync(number)
    finally:
        os.close(number)


def _upgrade(path: Path) -> None:
    """All migrations that are missing, in one transaction."""
    engine = create_engine(f"sqlite:///{path}", poolclass=NullPool, connect_args={"timeout": BUSY_SECONDS})
    event.listen(engine, "connect", _without_own_transactions)
    with engine.connect() as connection:
        connection.exec_driver_sql("BEGIN IMMEDIATE")
        try:
            with warnings.catch_warnings():
                # an index over an expression cannot be reflected; it is made anew by its own migration
                warnings.simplefilter("ignore", SAWarning)
                command.upgrade(migration_config(connection=connection), "head")
            session = Session(bind=connection)
            references.rebuild(session)
            session.flush()
            connection.exec_driver_sql("COMMIT")
        except BaseException:
            if connection.connection.driver_connection.in_transaction:  # type: ignore[union-attr]
                connection.exec_driver_sql("ROLLBACK")
            raise
    engine.dispose()


def _without_own_transactions(connection: DBAPIConnection, _record: object) -> None:
    """Transactions begin and end where this module says; foreign keys are not followed while tables are
    made anew.
    """
    assert isinstance(connection, sqlite3.Connection)
    connection.isolation_level = None
    connection.execute("PRAGMA synchronous=FULL")
