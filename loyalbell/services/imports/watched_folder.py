"""A folder in which a till puts its files: what lies there is brought in by itself.

Only a file whose columns somebody has explained before, that leaves no question and of which nearly all rows
can be taken, goes into the book. Every other waits, tried out, for a person, and Today says so.
"""

import contextlib
import time
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

import structlog
from pydantic import Field
from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports.questions import open_questions
from loyalbell.services.settings.channels import SettingsGroup, loaded
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.schema import ImportRun

BY = "watched folder"
SETTLED_SECONDS = 30
MOST_REFUSED = 0.1
"""Share of a file's rows above which a person is asked first."""
LOOK_EVERY = 20.0
TAKEN, UNREAD = "taken", "not read"
ENDINGS = (".csv", ".tsv", ".txt", ".xlsx", ".xls", ".xlsb", ".ods", ".vcf", ".ics", ".htm", ".html")
log = structlog.get_logger()


class WatchedSettings(SettingsGroup):
    """``folder`` is empty while nothing is watched. ``problem`` says why the last look failed."""

    kept_as = "watched folder"
    folder: str = Field(default="", max_length=500)


class CannotWatch(Exception):
    """Why a folder cannot be watched, in words."""


def settle(application: Application, folder: str, by: str) -> None:
    """From now on this folder is watched; none with an empty name. Raises ``CannotWatch``."""
    folder = folder.strip()
    if folder:
        _check(application, Path(folder))
    with application.database.transaction() as session:
        WatchedSettings(folder=folder).save(session)
        application.note(session, by, "changed the watched folder", folder=folder or "none")


def _check(application: Application, folder: Path) -> None:
    if not folder.is_absolute():
        raise CannotWatch("Give the whole path of the folder, such as /srv/till-exports.")
    if not folder.is_dir():
        raise CannotWatch(f"There is no folder {folder} on the machine that Loyal Bell runs on.")
    own = application.data.resolve()
    if folder.resolve() == own or own in folder.resolve().parents or folder.resolve() in own.parents:
        raise CannotWatch("That is where Loyal Bell keeps its own files. Choose a folder of its own.")
    probe = folder / ".loyalbell-probe"
    try:
        probe.touch()
        probe.unlink()
    except OSError as problem:
        raise CannotWatch(f"Nothing can be moved in {folder}: Loyal Bell may not write there.") from problem


@dataclass
class Watcher:
    """Remembers what it saw, so that a file that is still being written is left alone."""

    application: Application
    seen: dict[Path, tuple[int, float]] = field(default_factory=dict)

    def step(self) -> None:
        self.look()

    def look(self) -> int:
        """Takes in what has lain there unchanged. Returns how many files were taken in hand."""
        folder = loaded(self.application, WatchedSettings).folder
        if not folder:
            return 0
        taken, before, self.seen = 0, self.seen, {}
        for path in self._files(Path(folder)):
            mark = self._mark(path)
            if mark is None:
                continue
            self.seen[path] = mark
            if before.get(path) == mark and time.time() - mark[1] >= SETTLED_SECONDS:
                self._take(path)
                taken += 1
        return taken

    def _files(self, folder: Path) -> list[Path]:
        try:
            found = [path for path in folder.iterdir() if path.suffix.lower() in ENDINGS and path.is_file()]
        except OSError as problem:
            log.warning("the watched folder cannot be read", folder=str(folder), why=str(problem))
            return []
        # the oldest first: what a till wrote on Monday goes in before Tuesday's
        return sorted(found, key=lambda path: (self._mark(path) or (0, 0.0))[1])

    def _mark(self, path: Path) -> tuple[int, float] | None:
        try:
            status = path.stat()
        except OSError:
            return None
        return status.st_size, status.st_mtime

    def _take(self, path: Path) -> None:
        try:
            with path.open("rb") as file:
                run = import_commands.begin_import(self.application, None, path.name, file, BY)
        except (FileProblem, OSError) as problem:
            log.warning("a file of the watched folder cannot be read", file=path.name, why=str(problem))
            self._note_unread(path.name, str(problem))
            _move(path, UNREAD, self.application.clock.now())
            return
        _move(path, TAKEN, self.application.clock.now())
        import_commands.carry_out(self.application, run.id, False, lambda share, words: None)
        if self._may_go_in(run.id):
            import_commands.carry_out(self.application, run.id, True, lambda share, words: None)

    def _note_unread(self, name: str, why: str) -> None:
        """As an import that failed, so that Today shows it like any other."""
        with self.application.database.transaction() as session:
            session.add(
                ImportRun(
                    kind="customers",
                    filename=name,
                    mapping={"columns": {}, "zone": "UTC", "day_first": False},
                    state="failed",
                    problem=why,
                    started_at=self.application.clock.now(),
                    by=BY,
                    examples=[],
                    problems=[],
                    found={},
                )
            )

    def _may_go_in(self, run_id: int) -> bool:
        run = self.application.find(ImportRun, run_id)
        if run is None or run.state != "tried" or "remembered" not in run.mapping or open_questions(run):
            return False
        rows = run.created + run.changed + run.unchanged + run.refused
        return run.refused <= MOST_REFUSED * max(rows, 1)


def _move(path: Path, where: str, now: datetime) -> None:
    """Out of the way, under a name that says when."""
    folder = path.parent / where
    with contextlib.suppress(OSError):
        folder.mkdir(exist_ok=True)
        path.rename(folder / f"{now:%Y-%m-%d %H%M%S} {path.name}")


def lately(application: Application, days: int = 1) -> list[ImportRun]:
    """What came from the folder in the last days, the newest first."""
    since = application.clock.now() - timedelta(days=days)
    with application.database.reading() as session:
        query = select(ImportRun).where(ImportRun.by == BY, ImportRun.started_at >= since)
        return list(session.scalars(query.order_by(ImportRun.id.desc())))


def waiting(application: Application) -> list[ImportRun]:
    """Files that wait for a person."""
    with application.database.reading() as session:
        query = select(ImportRun).where(ImportRun.by == BY, ImportRun.state.in_(("new", "tried")))
        return list(session.scalars(query.order_by(ImportRun.id)))
