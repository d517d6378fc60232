"""Keeps the ledger in memory and never hands out one that is behind the book."""

from threading import Lock

from loyalbell.core.ledger import Ledger
from loyalbell.store import journal
from loyalbell.store.database import Book
from loyalbell.store.load_ledger import follow, load_ledger


class LedgerKeeper:
    def __init__(self, book: Book) -> None:
        self._book = book
        self._lock = Lock()
        self._ledger: Ledger | None = None

    def current(self) -> Ledger:
        """The ledger as of the newest committed write; reads only what the journal says has changed."""
        with self._lock, self._book.reading() as reader:
            version = journal.newest(reader)
            if self._ledger is None:
                self._ledger = load_ledger(reader, version)
            elif version != self._ledger.version:
                noted = journal.since(reader, self._ledger.version)
                self._ledger = (
                    load_ledger(reader, version)
                    if noted is None
                    else follow(reader, self._ledger, noted, version)
                )
            return self._ledger
