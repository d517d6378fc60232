"""A long piece of writing, done in slices: between two of them others get their turn.

What is written so far can then be seen by others, and stays if the program is killed: whoever writes so must
be able to take it back.
"""

import time
from collections.abc import Callable

from sqlalchemy.orm import Session

from loyalbell.storage import change_log
from loyalbell.storage.database import Database

SLICE_SECONDS = 0.25
GAP_SECONDS = 0.02
"""SQLite's other processes ask again after a while; without a gap they would never find it free."""
Breathe = Callable[[], bool]


def never() -> bool:
    """For work that must not be parted, and for what only reads."""
    return False


class LongWrite:
    """The slices of one transaction of ``database``, which is under way in ``session``."""

    def __init__(self, database: Database, session: Session, seconds: float | None = None) -> None:
        self.database, self.session = database, session
        self.seconds = SLICE_SECONDS if seconds is None else seconds
        self._began = time.monotonic()

    def breathe(self) -> bool:
        """Ends the slice where it has lasted long enough. Whether others have written in between, so that
        what is known from before may be out of date.
        """
        if time.monotonic() - self._began < self.seconds:
            return False
        with self.database.turn_for_others(self.session) as mine:
            time.sleep(GAP_SECONDS)
        self._began = time.monotonic()
        return change_log.newest(self.session) != mine
