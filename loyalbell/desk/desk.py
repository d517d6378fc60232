"""What every act needs: the book, the clock, the ledger and the jobs under way."""

from pathlib import Path
from threading import Lock

from sqlalchemy.orm import Session

from loyalbell.core.ledger import Ledger
from loyalbell.desk.clock import Clock, clock_for
from loyalbell.desk.jobs import Jobs
from loyalbell.desk.ledger_keeper import LedgerKeeper
from loyalbell.store.database import Book
from loyalbell.store.tables import LogEntry, Shop


class Desk:
    def __init__(self, data: Path, clock: Clock | None = None) -> None:
        self.book = Book(data)
        self.clock = clock or clock_for(self.book)
        self.jobs = Jobs()
        self.import_turn = Lock()
        self._keeper = LedgerKeeper(self.book)

    @property
    def data(self) -> Path:
        return self.book.data

    def ledger(self) -> Ledger:
        return self._keeper.current()

    def shop(self) -> Shop | None:
        """The shop, or ``None`` before it has been set up."""
        with self.book.reading() as session:
            return session.get(Shop, 1)

    def the_shop(self) -> Shop:
        """The shop of a book that has been set up."""
        with self.book.reading() as session:
            return session.get_one(Shop, 1)

    def note(self, session: Session, by: str, act: str, **detail: object) -> None:
        """Writes one line of the log in the caller's transaction."""
        session.add(LogEntry(at=self.clock.now(), by=by, act=act, detail=detail))

    def close(self) -> None:
        self.book.close()
