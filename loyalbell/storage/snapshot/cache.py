"""Keeps the ledger in memory and never hands out one that is behind the book."""

from pathlib import Path
from threading import Lock

import structlog
from sqlalchemy.orm import Session as Reader

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.storage import change_log, column_files
from loyalbell.storage.database import Database, WithinTransaction
from loyalbell.storage.snapshot.loading import follow, load_snapshot

log = structlog.get_logger()
WORTH_ROWS = 100_000
"""A book with fewer rows is read in less than a second: its columns are not kept as files."""
BEHIND = 500
"""Notes of the change log that the files may be behind the book before they are written anew."""


class SnapshotCache:
    def __init__(self, database: Database) -> None:
        self._database = database
        self._lock = Lock()
        self._ledger: HistorySnapshot | None = None
        self._files: Path | None = None
        """The folder of files that this ledger came from or was written to, and up to which note they go."""
        self._files_version = 0

    @property
    def version(self) -> int:
        return self._ledger.version if self._ledger is not None else 0

    def current(self) -> HistorySnapshot:
        """The ledger as of the newest committed write; reads only what the journal says has changed.

        Raises ``WithinTransaction``: what is not committed yet must not get into it.
        """
        if self._database.is_writing:
            raise WithinTransaction("ask for the snapshot before the transaction begins")
        with self._lock, self._database.reading() as reader:
            version = change_log.newest(reader)
            before = self._ledger if self._ledger is not None else self._from_files()
            self._ledger = _brought_to(reader, before, version)
            if before is not None and took_away(before, self._ledger):
                self._forget_files()
            return self._ledger

    def _from_files(self) -> HistorySnapshot | None:
        believed = self._database.columns
        found = column_files.read(believed.folder) if believed is not None else None
        if believed is not None and found is not None:
            self._files, self._files_version = believed.folder, found.version
        return found

    def _forget_files(self) -> None:
        """What was erased must not stay in them."""
        if self._database.is_owner:
            column_files.remove(self._database.data)
        self._files, self._database.columns = None, None

    def files(self) -> Path | None:
        """The folder of the ledger as files that are not far behind it, written where there is none; ``None``
        where the book is not worth it, or there is no room.
        """
        ledger = self.current()
        if ledger.rows < WORTH_ROWS:
            return None
        with self._lock:
            if self._files is None or ledger.version - self._files_version > BEHIND:
                try:
                    self._files = column_files.write(self._database.data, ledger)
                    self._files_version = ledger.version
                except OSError as error:
                    log.warning("the columns of the book could not be written", said=str(error))
                    return None
            return self._files

    def remove_old_files(self) -> None:
        """Takes away all but those in use."""
        with self._lock:
            believed = self._database.columns
            used = self._files or (believed.folder if believed is not None else None)
            column_files.remove(self._database.data, but=used)

    def put_away(self) -> Path | None:
        """The files to be sealed as the book is closed. Where nothing was asked of the ledger, those that
        were there, if nothing has changed since; otherwise they are taken away.
        """
        if self._ledger is not None:
            return self.files()
        believed = self._database.columns
        if believed is None:
            return None
        with self._database.reading() as reader:
            if change_log.newest(reader) == believed.newest:
                return believed.folder
        self._forget_files()
        return None


def _brought_to(reader: Reader, before: HistorySnapshot | None, version: int) -> HistorySnapshot:
    if before is None:
        return load_snapshot(reader, version)
    if version == before.version:
        return before
    noted = change_log.since(reader, before.version)
    return load_snapshot(reader, version) if noted is None else follow(reader, before, noted, version)


def took_away(before: HistorySnapshot, now: HistorySnapshot) -> bool:
    """Whether somebody, or what was kept of events and fields, is gone."""
    if now is before:
        return False
    if len(now.events) < len(before.events) or len(now.field_values) < len(before.field_values):
        return True
    if now.people is before.people:
        return False
    known = len(before.people)
    erased = (now.people.joined_at[:known] >= NEVER) & (before.people.joined_at[:known] < NEVER)
    return len(now.people) < known or bool(erased.any())
