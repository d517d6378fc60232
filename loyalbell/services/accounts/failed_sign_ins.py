"""Wrong passwords: each makes the next try wait longer, for the account and for where it comes from.

The waits are kept in memory: whoever can restart the program needs no password.
"""

import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from threading import Lock

FORGOTTEN_AFTER = 3_600.0
MOST_KEPT = 10_000
LONGEST_EMAIL = 200


@dataclass(frozen=True)
class Patience:
    """So many tries are free; then the wait doubles from 2 seconds up to ``longest``."""

    free: int
    longest: float

    def after(self, failures: int) -> float:
        return 0.0 if failures < self.free else min(self.longest, 2.0 ** min(failures - self.free + 1, 20))


TOGETHER, OF_ACCOUNT, OF_SOURCE = Patience(5, 900.0), Patience(20, 30.0), Patience(30, 900.0)
"""For one account from one place; for one account from anywhere, short, so that nobody can lock its owner
out; and from one place for whichever accounts.
"""


class FailedSignIns:
    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self.clock = clock
        self._lock = Lock()
        self._kept: OrderedDict[tuple[str, str], tuple[int, float]] = OrderedDict()

    def wait(self, email: str, source: str) -> float:
        """Seconds until the next try may be made; 0 for now."""
        with self._lock:
            return max(self._wait(key, patience) for key, patience in _keys(email, source))

    def failed(self, email: str, source: str) -> None:
        with self._lock:
            now = self.clock()
            for key, _ in _keys(email, source):
                self._kept[key] = (self._failures(key) + 1, now)
                self._kept.move_to_end(key)
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)

    def succeeded(self, email: str, source: str) -> None:
        """Whoever knows the password has not been guessing; others from the same place may have."""
        with self._lock:
            self._kept.pop(_keys(email, source)[0][0], None)

    def _failures(self, key: tuple[str, str]) -> int:
        count, at = self._kept.get(key, (0, 0.0))
        return count if self.clock() - at < FORGOTTEN_AFTER else 0

    def _wait(self, key: tuple[str, str], patience: Patience) -> float:
        failures = self._failures(key)
        if not failures:
            return 0.0
        return max(0.0, self._kept[key][1] + patience.after(failures) - self.clock())


def _keys(email: str, source: str) -> tuple[tuple[tuple[str, str], Patience], ...]:
    said = email.strip().lower()[:LONGEST_EMAIL]
    return (((said, source), TOGETHER), ((said, ""), OF_ACCOUNT), (("", source), OF_SOURCE))
