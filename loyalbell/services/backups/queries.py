"""Which backups there are, and whether the newest is fresh enough."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from loyalbell.services.application import Application
from loyalbell.services.backups import commands
from loyalbell.services.backups.settings import BackupSettings
from loyalbell.services.settings.channels import loaded
from loyalbell.storage import backup_file
from loyalbell.storage.backup_file import Backup, BackupProblem, Contents

STALE_AFTER = 2
"""So many times the hours between two backups may pass before it is said that none is fresh."""


@dataclass(frozen=True)
class BackupStanding:
    """``age`` of the newest; ``None`` where there is none. ``trouble``: why the last try failed."""

    backups: list[Backup]
    folder: Path
    settings: BackupSettings
    age: timedelta | None
    trouble: str

    @property
    def is_fresh(self) -> bool:
        return self.age is not None and self.age <= STALE_AFTER * timedelta(hours=self.settings.every_hours)

    @property
    def total(self) -> int:
        """Bytes of all of them."""
        return sum(backup.size for backup in self.backups)


def standing(application: Application) -> BackupStanding:
    folder = commands.folder_of(application)
    backups = backup_file.backups_in(folder)
    made = commands.newest(backups)
    return BackupStanding(
        backups,
        folder,
        loaded(application, BackupSettings),
        datetime.now(UTC) - made if made is not None else None,
        application.troubles.get(commands.TOPIC, ""),
    )


def backup_named(application: Application, name: str) -> Backup | None:
    """One of those in the folder, by its file's name."""
    backups = backup_file.backups_in(commands.folder_of(application))
    return next((backup for backup in backups if backup.path.name == name), None)


def checked(backup: Backup) -> Contents:
    """Unpacks a backup to one side and looks whether it is whole. Raises ``BackupProblem``."""
    if backup.contents is None:
        raise BackupProblem(f"{backup.path.name} is not a backup, or only a part of one.")
    return backup_file.check(backup.path)
