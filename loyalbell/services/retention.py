"""How long is kept what is not needed for good: the log, uploaded files, events of the website. What is gone
from the book stays in backups until those are deleted.
"""

import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from pydantic import Field
from sqlalchemy import delete, func, select

from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.imports import files
from loyalbell.services.settings.channels import SettingsGroup
from loyalbell.storage import log_chain
from loyalbell.storage.schema import Event, ImportRun

A_MONTH = timedelta(days=30.44)
EVENTS_AT_ONCE = 5_000
ENDED = ("done", "failed")


class RetentionSettings(SettingsGroup):
    """``log_months`` of the log (0 keeps it for good), ``upload_days`` of uploaded files, ``event_months`` of
    events (0 keeps them for good).
    """

    kept_as = "retention"
    log_months: int = Field(default=0, ge=0, le=240)
    upload_days: int = Field(default=90, ge=1, le=3_650)
    event_months: int = Field(default=0, ge=0, le=240)


@dataclass(frozen=True)
class WouldGo:
    """How many log entries, files and events are older than the settings keep."""

    entries: int
    files: int
    events: int


def would_go(application: Application, settings: RetentionSettings) -> WouldGo:
    """With these settings, now."""
    now = application.clock.now()
    with application.database.reading() as session:
        entries = (
            log_chain.how_many_before(session, now - settings.log_months * A_MONTH)
            if settings.log_months
            else 0
        )
        events = (
            session.scalar(
                select(func.count())
                .select_from(Event)
                .where(Event.at < now - settings.event_months * A_MONTH)
            )
            if settings.event_months
            else 0
        )
        old = len(_old_files(application, session, now, settings.upload_days))
    return WouldGo(entries, old, events or 0)


def tidy(application: Application) -> WouldGo:
    """Deletes what is older than the settings keep. Returns what went."""
    now = application.clock.now()
    with application.database.reading() as session:
        settings = RetentionSettings.load(session)
        old = _old_files(application, session, now, settings.upload_days)
    for path in old:
        path.unlink(missing_ok=True)
    entries = events = 0
    while settings.event_months:
        gone = _delete_events(application, now - settings.event_months * A_MONTH)
        events += gone
        if gone < EVENTS_AT_ONCE:
            break
    if settings.log_months:
        with application.database.transaction() as session:
            entries = log_chain.cut_before(session, now - settings.log_months * A_MONTH)
    if entries or old or events:
        with application.database.transaction() as session:
            application.note(
                session,
                "the clock",
                "deleted what was older than is kept",
                entries=entries,
                files=len(old),
                events=events,
            )
    return WouldGo(entries, len(old), events)


def _delete_events(application: Application, moment: datetime) -> int:
    """Some of them: others may write in between."""
    with application.database.transaction() as session:
        some = list(session.scalars(select(Event.id).where(Event.at < moment).limit(EVENTS_AT_ONCE)))
        session.execute(delete(Event).where(Event.id.in_(some)))
        return len(some)


def _old_files(application: Application, session: UnitOfWork, now: datetime, days: int) -> list[Path]:
    """Of imports that ended so long ago, with what was made of them; and what no import knows."""
    before, found = now - timedelta(days=days), []
    runs = {run.id: run for run in session.scalars(select(ImportRun))}
    for path in sorted(files.folder(application).iterdir()):
        number = path.name.split(".")[0].split("-")[0]
        run = runs.get(int(number)) if number.isdecimal() else None
        if run is None:
            is_old = time.time() - path.stat().st_mtime > days * 86_400
        else:
            is_old = run.state in ENDED and run.started_at < before
        if is_old and path.is_file():
            found.append(path)
    return found
