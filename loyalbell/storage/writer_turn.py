"""Who may write next: SQLite has one writer, and lets whoever asks in the right instant go first. Here they
go in the order in which they asked, so that an import cannot keep a till waiting.
"""

import time
from collections import deque
from threading import Lock
from typing import NamedTuple

KEPT_WAITS = 1_000


class Wait(NamedTuple):
    """How long one writer waited for its turn, and then held it, in seconds."""

    waited: float
    held: float


class WriterTurn:
    """A lock that is given in the order in which it was asked for."""

    def __init__(self) -> None:
        self._guard, self._queue = Lock(), deque[Lock]()
        self._is_taken = False
        self.waits = deque[Wait](maxlen=KEPT_WAITS)
        self.count = 0
        self._waited = self._since = 0.0

    def take(self, seconds: float) -> bool:
        """Waits for its turn, at most so long. False where it did not come."""
        began = time.monotonic()
        with self._guard:
            if not self._is_taken:
                self._is_taken = True
                self._begin(began)
                return True
            mine = Lock()
            mine.acquire()
            self._queue.append(mine)
        if mine.acquire(timeout=seconds):
            self._begin(began)
            return True
        with self._guard:
            if mine in self._queue:
                self._queue.remove(mine)
                return False
        # the turn came in the very moment in which waiting ended
        self._begin(began)
        return True

    def _begin(self, began: float) -> None:
        self._since = time.monotonic()
        self._waited = self._since - began

    def give_back(self) -> None:
        wait = Wait(self._waited, time.monotonic() - self._since)
        with self._guard:
            self.waits.append(wait)
            self.count += 1
            if self._queue:
                self._queue.popleft().release()
            else:
                self._is_taken = False
