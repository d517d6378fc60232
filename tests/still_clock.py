"""A clock for tests; in a file of its own, so that a process started anew has little to read."""

from datetime import UTC, datetime, timedelta

NOW = datetime(2026, 5, 12, 13, 40, tzinfo=UTC)


class StillClock:
    """A clock that a test moves."""

    def __init__(self, instant: datetime = NOW) -> None:
        self.instant = instant

    def now(self) -> datetime:
        return self.instant

    def move_on(self, step: timedelta) -> None:
        self.instant += step
