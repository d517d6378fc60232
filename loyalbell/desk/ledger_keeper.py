"""Keeps the ledger in memory and never hands out one that is behind the book."""

from threading import Lock

from loyalbell.core.ledger import Ledger
from loyalbell.store.database import Book
from loyalbell.store.load_ledger import load_ledger, versions


class LedgerKeeper:
    def __init__(self, book: Book) -> None:
        self._book = book
        self._lock = Lock()
        self._ledger: Ledger | None = None
        self._versions: dict[str, int] = {}

    def current(self) -> Ledger:
        """The ledger as of the newest committed write; reloads only the parts that changed."""
        with self._lock, self._book.reading() as reader:
            found = versions(reader)
            if self._ledger is None or found != self._versions:
                stale = [part for part, version in found.items() if self._versions.get(part) != version]
                self._ledger = load_ledger(reader, self._ledger, stale)
                self._versions = found
            return self._ledger
