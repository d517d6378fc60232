"""Making backups, by hand and by the clock, and keeping no more of them than wanted."""

import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import structlog

from loyalbell.services.application import Application
from loyalbell.services.backups.settings import BackupSettings
from loyalbell.services.delivery.message_keys import MessageKey, key_of_book
from loyalbell.services.settings.channels import loaded
from loyalbell.storage import backup_file
from loyalbell.storage.backup_file import Backup, BackupProblem

BY_HAND, BY_THE_CLOCK, BEFORE_UPGRADE = "by hand", "by the clock", "before an upgrade"
UPGRADES_KEPT = 3
FIRST_AFTER_SECONDS, LOOK_EVERY_SECONDS = 300.0, 60.0
TOPIC = "backup"
log = structlog.get_logger()


def folder_of(application: Application) -> Path:
    folder = loaded(application, BackupSettings).folder
    return Path(folder).expanduser() if folder else application.data / backup_file.FOLDER


def make(application: Application, why: str = BY_HAND, by: str = "") -> Backup:
    """Raises ``BackupProblem``, which also stands on Today until one succeeds."""
    folder = folder_of(application)
    with application.database.reading() as session:
        has_key = bool(MessageKey.load(session).key)
    if not has_key:
        # a book restored from this must give its messages the names that this one will
        with application.database.transaction() as session:
            key_of_book(session)
    try:
        path = backup_file.write(application.database.path, folder, why, application.clock.now())
    except BackupProblem as problem:
        application.troubles[TOPIC] = str(problem)
        raise
    application.troubles.pop(TOPIC, None)
    made = Backup(path, path.stat().st_size, backup_file.read_contents(path))
    with application.database.transaction() as session:
        application.note(session, by or "the clock", "made a backup", file=path.name, bytes=made.size)
    for old in superfluous(backup_file.backups_in(folder), loaded(application, BackupSettings).keep):
        old.path.unlink(missing_ok=True)
    return made


def superfluous(backups: Sequence[Backup], keep: int) -> list[Backup]:
    """Of those made by themselves the ones beyond the newest; what a person made is theirs to delete."""
    found = []
    for why, most in ((BY_THE_CLOCK, keep), (BEFORE_UPGRADE, UPGRADES_KEPT)):
        found += [one for one in backups if one.contents is not None and one.contents.why == why][most:]
    return found


class BackupClock:
    """Makes a backup whenever the newest is old enough; by the time of day, also in a demo."""

    def __init__(self, application: Application) -> None:
        self.application = application
        self._look_at = time.monotonic() + FIRST_AFTER_SECONDS

    def step(self) -> None:
        if time.monotonic() < self._look_at:
            return
        self._look_at = time.monotonic() + LOOK_EVERY_SECONDS
        if is_due(self.application, datetime.now(UTC)):
            try:
                make(self.application, BY_THE_CLOCK)
            except BackupProblem as problem:
                # asked again in a while: what it takes (room on the disk, a folder) must come from a person
                self._look_at += 10 * LOOK_EVERY_SECONDS
                log.error("no backup could be made", why=str(problem))


def is_due(application: Application, now: datetime) -> bool:
    made = newest(backup_file.backups_in(folder_of(application)))
    every = timedelta(hours=loaded(application, BackupSettings).every_hours)
    return made is None or now - made >= every


def newest(backups: Sequence[Backup]) -> datetime | None:
    """When the newest that can be read was made."""
    return max((one.contents.made_at for one in backups if one.contents is not None), default=None)
