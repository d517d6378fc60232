"""Opening the book: one SQLite file in write-ahead mode, brought to the newest migration."""

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import NoResultFound
from sqlalchemy.orm import Session

from loyalbell.storage import change_tracking, references

BOOK_FILE = "book.sqlite3"
MIGRATIONS = Path(__file__).parent / "migrations"
BUSY_SECONDS = 60


class NotOnFile(LookupError):
    """A row that was asked for by its number is not there, or not any more."""


class DatabaseTooNew(Exception):
    """The file was written by a newer Loyal Bell than this one."""


def _set_up_connection(connection: DBAPIConnection, _record: object) -> None:
    assert isinstance(connection, sqlite3.Connection)
    connection.isolation_level = None
    for pragma in (
        "journal_mode=WAL",
        "foreign_keys=ON",
        "synchronous=FULL",
        "temp_store=MEMORY",
        "cache_size=-98304",
    ):
        connection.execute(f"PRAGMA {pragma}")


def engine_for(path: Path) -> Engine:
    """An engine on the file at ``path``. Sessions begin their transactions explicitly."""
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": BUSY_SECONDS})
    event.listen(engine, "connect", _set_up_connection)
    return engine


def migration_config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url)
    return config


class Database:
    """The shop's database in folder ``data``: the one truth everything else is read from."""

    def __init__(self, data: Path) -> None:
        data.mkdir(parents=True, exist_ok=True)
        self.data = data
        self.path = data / BOOK_FILE
        self.engine = engine_for(self.path)
        self._migrate()

    def _migrate(self) -> None:
        config = migration_config(str(self.engine.url))
        script = ScriptDirectory.from_config(config)
        with self.engine.connect() as connection:
            current = MigrationContext.configure(connection).get_current_revision()
        if current == script.get_current_head():
            return
        if current is not None and current not in {r.revision for r in script.walk_revisions()}:
            raise DatabaseTooNew(
                f"{self.path} was written by a newer version of Loyal Bell. Open it with that version."
            )
        command.upgrade(config, "head")
        with self.transaction() as session:
            references.rebuild(session)

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session that sees one consistent state and writes nothing."""
        with Session(self.engine, expire_on_commit=False) as session:
            session.connection().exec_driver_sql("BEGIN")
            try:
                yield session
            except NoResultFound as missing:
                raise NotOnFile(str(missing)) from missing
            finally:
                session.connection().exec_driver_sql("ROLLBACK")

    @contextmanager
    def transaction(self) -> Iterator[Session]:
        """The unit of work: the one writer. Its changes are kept together at the end, or not at all.

        What it changed of the snapshot is noted by itself (``change_tracking``).
        """
        with Session(self.engine, expire_on_commit=False) as session:
            connection = session.connection()
            change_tracking.track(connection)
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            try:
                yield session
                session.flush()
                change_tracking.write_notes(session)
                connection.exec_driver_sql("COMMIT")
            except BaseException as problem:
                if connection.connection.driver_connection.in_transaction:  # type: ignore[union-attr]
                    connection.exec_driver_sql("ROLLBACK")
                if isinstance(problem, NoResultFound):
                    raise NotOnFile(str(problem)) from problem
                raise

    def close(self) -> None:
        self.engine.dispose()
