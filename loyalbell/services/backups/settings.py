"""How often a backup is made, how many are kept, and where."""

from pydantic import Field

from loyalbell.services.settings.channels import SettingsGroup


class BackupSettings(SettingsGroup):
    """``folder``: where they are kept; empty for ``backups`` beside the book."""

    kept_as = "backups"
    every_hours: int = Field(default=24, ge=1, le=168)
    keep: int = Field(default=14, ge=2, le=365)
    folder: str = Field(default="", max_length=500)
