"""The clock of the program: the time of day, or the demo's own that moves only when moved."""

from datetime import UTC, datetime, timedelta
from typing import Protocol

from loyalbell.storage.database import Database
from loyalbell.storage.schema import ClockSetting


class Clock(Protocol):
    def now(self) -> datetime:
        """The instant, in UTC, to whole seconds."""
        ...


class TimeOfDay:
    def now(self) -> datetime:
        return datetime.now(UTC).replace(microsecond=0)


class DemoClock:
    """Kept in the book, so that a second start goes on where the first one stopped."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def now(self) -> datetime:
        with self.database.reading() as session:
            return session.get_one(ClockSetting, 1).instant

    def move_on(self, step: timedelta) -> datetime:
        """Moves forward by a positive step; the clock never goes back."""
        if step <= timedelta():
            raise ValueError("the clock only moves forward")
        with self.database.transaction() as session:
            setting = session.get_one(ClockSetting, 1)
            setting.instant = setting.instant + step
            return setting.instant


def clock_for(database: Database) -> Clock:
    """The demo's clock where the book has one, else the time of day."""
    with database.reading() as session:
        found = session.get(ClockSetting, 1)
    return DemoClock(database) if found else TimeOfDay()
