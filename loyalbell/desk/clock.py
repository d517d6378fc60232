"""The clock of the program: the time of day, or the demo's own that moves only when moved."""

from datetime import UTC, datetime, timedelta
from typing import Protocol

from loyalbell.store.database import Book
from loyalbell.store.tables import ClockSetting


class Clock(Protocol):
    def now(self) -> datetime:
        """The instant, in UTC, to whole seconds."""
        ...


class TimeOfDay:
    def now(self) -> datetime:
        return datetime.now(UTC).replace(microsecond=0)


class DemoClock:
    """Kept in the book, so that a second start goes on where the first one stopped."""

    def __init__(self, book: Book) -> None:
        self.book = book

    def now(self) -> datetime:
        with self.book.reading() as session:
            return session.get_one(ClockSetting, 1).instant

    def move_on(self, step: timedelta) -> datetime:
        """Moves forward by a positive step; the clock never goes back."""
        if step <= timedelta():
            raise ValueError("the clock only moves forward")
        with self.book.writing() as session:
            setting = session.get_one(ClockSetting, 1)
            setting.instant = setting.instant + step
            return setting.instant


def clock_for(book: Book) -> Clock:
    """The demo's clock where the book has one, else the time of day."""
    with book.reading() as session:
        found = session.get(ClockSetting, 1)
    return DemoClock(book) if found else TimeOfDay()
