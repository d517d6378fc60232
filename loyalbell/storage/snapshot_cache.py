"""Keeps the ledger in memory and never hands out one that is behind the book."""

from threading import Lock

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.storage import change_log
from loyalbell.storage.database import Database, WithinTransaction
from loyalbell.storage.snapshot_loading import follow, load_snapshot


class SnapshotCache:
    def __init__(self, database: Database) -> None:
        self._database = database
        self._lock = Lock()
        self._ledger: HistorySnapshot | None = None

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
            if self._ledger is None:
                self._ledger = load_snapshot(reader, version)
            elif version != self._ledger.version:
                noted = change_log.since(reader, self._ledger.version)
                self._ledger = (
                    load_snapshot(reader, version)
                    if noted is None
                    else follow(reader, self._ledger, noted, version)
                )
            return self._ledger
