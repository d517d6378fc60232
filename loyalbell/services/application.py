"""What every act needs: the book, the clock, the ledger and the jobs under way."""

from collections import Counter
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from threading import Lock
from typing import Any, Protocol, TypeVar

import structlog
from sqlalchemy.orm import Session

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.services.background_work import BackgroundResults, Jobs, LatestRequest, ResultCache
from loyalbell.services.clock import Clock, clock_for
from loyalbell.services.give_way import PagesUnderWay
from loyalbell.services.response_queue import ResponseQueue
from loyalbell.storage import backup_file, column_files, log_chain
from loyalbell.storage.backup_file import BackupProblem
from loyalbell.storage.database import Database
from loyalbell.storage.opening import BookProblem
from loyalbell.storage.schema import Base, Shop
from loyalbell.storage.secret_box import SecretBox
from loyalbell.storage.snapshot.cache import SnapshotCache

log = structlog.get_logger()


def put_away(book: Path, revision: str) -> None:
    """A backup before the book is brought up to date: without one it is not."""
    try:
        backup_file.write(book, book.parent / backup_file.FOLDER, "before an upgrade")
    except BackupProblem as problem:
        raise BookProblem(f"{book} is not brought up to date from step {revision}: {problem}") from problem


FROM_WHERE: ContextVar[str] = ContextVar("from where", default="")
"""The address that asks, for the log; empty for what the program does by itself."""
UnitOfWork = Session
"""The writing transaction that an act is part of; pages and commands only hand it on."""
Row = TypeVar("Row", bound=Base)


Progress = Callable[[float], None]
Found = TypeVar("Found")


class WorkBeside(Protocol):
    """Whoever does long computations elsewhere (``second_process.py``)."""

    def run(
        self, work: Callable[..., Found], *arguments: Any, progress: Progress, beforehand: bool
    ) -> Found: ...

    def close(self) -> None: ...


class Application:
    def __init__(
        self, data: Path, clock: Clock | None = None, columns: column_files.Believed | None = None
    ) -> None:
        """``columns``: files of the snapshot, given by the process that has opened the book; this one only
        reads beside it.
        """
        self.database = Database(data, put_away, columns)
        self.clock = clock or clock_for(self.database)
        self.beside: WorkBeside | None = None
        self.pages = PagesUnderWay()
        self.is_ticking = False
        """Whether a tick of the sequences is moving places on just now."""
        self.responses = ResponseQueue(self.database, self.clock)
        self.jobs, self.cache = Jobs(), ResultCache()
        self.background = BackgroundResults()
        self.latest: LatestRequest[Any] = LatestRequest()
        self.import_turn = Lock()
        self.outcomes = Counter[tuple[str, str]]()
        """What became of messages since the start, by channel and outcome."""
        self.troubles: dict[str, str] = {}
        """What is wrong with the machine (no backup, no room), in words, by topic; shown on Today."""
        self._snapshots = SnapshotCache(self.database)

    @property
    def data(self) -> Path:
        return self.database.data

    @property
    def secrets(self) -> SecretBox:
        return self.database.secrets

    def snapshot(self) -> HistorySnapshot:
        return self._snapshots.current()

    def snapshot_version(self) -> int:
        """Up to which note of the change log the snapshot in memory goes; 0 where there is none yet."""
        return self._snapshots.version

    def column_files(self) -> Path | None:
        """The folder of the snapshot as files, for another process to map; ``None`` where there is none."""
        return self._snapshots.files()

    def remove_old_files(self) -> None:
        """Takes away files of the snapshot that a kill has left; by the process that runs on the folder."""
        self._snapshots.remove_old_files()

    def work_out(
        self,
        work: Callable[..., Found],
        *arguments: Any,
        progress: Progress = lambda share: None,
        beforehand: bool = False,
    ) -> Found:
        """What ``work(application, *arguments, progress)`` finds or raises; in a process beside this one
        where there is one. ``work`` is a function of a module and writes nothing; ``beforehand``: nobody
        waits for it.
        """
        if self.beside is None:
            return work(self, *arguments, progress)
        return self.beside.run(work, *arguments, progress=progress, beforehand=beforehand)

    def shop(self) -> Shop | None:
        """The shop, or ``None`` before it has been set up."""
        with self.database.reading() as session:
            return session.get(Shop, 1)

    def the_shop(self) -> Shop:
        """The shop of a book that has been set up."""
        with self.database.reading() as session:
            return session.get_one(Shop, 1)

    def find(self, kind: type[Row], row_id: int | None) -> Row | None:
        """One row of a table by its number, read apart from any transaction; ``None`` where there is none."""
        if row_id is None:
            return None
        with self.database.reading() as session:
            return session.get(kind, row_id)

    def note(self, session: Session, by: str, act: str, **detail: object) -> None:
        """Writes one line of the log in the caller's transaction."""
        log_chain.add(session, self.clock.now(), by, act, detail, FROM_WHERE.get())

    def close(self) -> None:
        """The book is closed, and its snapshot put away for the next start."""
        if self.beside is not None:
            self.beside.close()
        self.database.close(self._put_away())

    def _put_away(self) -> Path | None:
        """A book that cannot be read is closed all the same; it is read anew by the next start."""
        try:
            return self._snapshots.put_away()
        except Exception:
            log.exception("the snapshot could not be put away")
            return None
