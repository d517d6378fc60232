"""An import that is being written: nobody is judged by half a file, and half a file never stays.

It is written in slices, so that a till never waits long. While it lasts, no sequence looks at anybody and no
campaign begins; where it fails or is killed, what it had written is taken back.
"""

from collections.abc import Iterator
from contextlib import contextmanager

import structlog
from sqlalchemy import ColumnElement, select

from loyalbell.services.application import Application
from loyalbell.storage.file_lock import FileLock
from loyalbell.storage.files.import_undo import undo, what_depends
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.schema import ImportRun

LOCK_FILE = "importing.lock"
STOPPED = "The program stopped while this file was being read. Nothing of it is in the book; start it again."
FAILED = "Something unforeseen went wrong while reading. Nothing was written."
PARTLY = (
    "It was cut off, and a part of it is in the book, since others have used that by now: {why}. Bring the"
    " file in again: what is there already stays as it is."
)
log = structlog.get_logger()


def _is_written() -> ColumnElement[bool]:
    return (ImportRun.state == "running") & ImportRun.writes_since.is_not(None)


@contextmanager
def writing(application: Application, run_id: int) -> Iterator[None]:
    """Around the writing of one file, one after the other also across processes. Takes back what is there
    where it fails.
    """
    with application.import_turn, _lock(application).held():
        with application.database.transaction() as session:
            session.get_one(ImportRun, run_id).writes_since = application.clock.now()
        try:
            yield
        except BaseException as error:
            take_back(application, run_id, str(error) if isinstance(error, FileProblem) else FAILED)
            raise


def take_back(application: Application, run_id: int, problem: str) -> None:
    """What a file that came to no end has written leaves the book, unless others have used it."""
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        if run.writes_since is None or run.state != "running":
            return
        why = what_depends(session, run)
        if not why:
            undo(session, run, application.clock.now(), run.by or "")
            run.undone_at = run.undone_by = None
        run.state, run.writes_since = "failed", None
        run.problem = PARTLY.format(why="; ".join(why)) if why else problem


def is_under_way(application: Application) -> bool:
    """Whether a file is being written now, by this process or another. One whose process was killed is taken
    back first.
    """
    with application.database.reading() as session:
        if session.scalar(select(ImportRun.id).where(_is_written()).limit(1)) is None:
            return False
    if application.import_turn.locked():
        return True
    lock = _lock(application)
    if not lock.take():
        return True
    try:
        mend(application)
    finally:
        lock.release()
    return False


def mend(application: Application) -> None:
    """Takes back what imports have left that came to no end. The caller knows that none is being written."""
    with application.database.reading() as session:
        left = list(session.scalars(select(ImportRun.id).where(_is_written())))
    for run_id in left:
        log.warning("an import was cut off; what it had written is taken back", number=run_id)
        take_back(application, run_id, STOPPED)


def _lock(application: Application) -> FileLock:
    return FileLock(application.data / LOCK_FILE)
