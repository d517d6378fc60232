"""Somebody waits for a page: what can wait a little gives way.

Python lets one thread compute at a time. A tick over many people would take half of every page's time; it
pauses for moments while a page is being made instead.
"""

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from threading import Lock

MOMENT = 0.002
"""Seconds of one pause. Taken after about as much work, so that a tick is slowed down by half at most."""


MAY_BE_OLD: ContextVar[bool] = ContextVar("may be old", default=False)
"""Set while a page is only read and a tick is under way: it changes the book every moment, and figures worked
out a few seconds ago are shown rather than worked out anew at each look.
"""


class PagesUnderWay:
    """How many answers are being made just now."""

    def __init__(self) -> None:
        self._guard, self.count = Lock(), 0

    @contextmanager
    def one(self) -> Iterator[None]:
        with self._guard:
            self.count += 1
        try:
            yield
        finally:
            with self._guard:
                self.count -= 1

    def give_way(self) -> None:
        """A moment's pause while there are any."""
        if self.count:
            time.sleep(MOMENT)
