"""Memory that the process holds and no longer uses, handed back to the system.

The C library keeps what large computations have let go of, in case it is wanted again: with 200,000 customers
some 350 MB (measured). Nobody wants it until the next one, and other programs may.
"""

import ctypes
import time
from collections.abc import Callable
from threading import Lock, Timer

Trim = Callable[[int], int]


def _trim() -> Trim | None:
    """The function of glibc; other libraries have none, and hand back by themselves."""
    try:
        found: Trim = ctypes.CDLL(None).malloc_trim
    except (AttributeError, OSError):
        return None
    return found


TRIM = _trim()
AT_MOST_EVERY = 10.0
"""Seconds: what is worked out again and again would only ask for the same memory anew."""


class HandingBack:
    """Hands back at once, or, where that was done just now, once for all who asked meanwhile."""

    def __init__(self, every: float = AT_MOST_EVERY) -> None:
        self._every, self._last = every, -every
        self._turn, self._later = Lock(), False

    def __call__(self) -> bool:
        """Takes some milliseconds, and other threads go on meanwhile. Whether anything went back at once."""
        if TRIM is None:
            return False
        with self._turn:
            wait = self._last + self._every - time.monotonic()
            if wait > 0:
                if not self._later:
                    self._later = True
                    timer = Timer(wait, self._now)
                    timer.daemon = True
                    timer.start()
                return False
        return self._now()

    def _now(self) -> bool:
        with self._turn:
            self._last, self._later = time.monotonic(), False
        return TRIM is not None and bool(TRIM(0))


hand_back = HandingBack()
