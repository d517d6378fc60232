"""How much a program, or whoever has not signed in, may ask for: a bucket of requests each."""

import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock

BURST, PER_SECOND = 120, 20.0
MOST_KEPT = 10_000


class RateLimit:
    """``take`` says how many seconds to wait; 0 where the request may pass."""

    def __init__(
        self, burst: int = BURST, per_second: float = PER_SECOND, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self.burst, self.per_second, self.clock = burst, per_second, clock
        self._lock = Lock()
        self._held: OrderedDict[Hashable, tuple[float, float]] = OrderedDict()

    def take(self, who: Hashable) -> float:
        with self._lock:
            now = self.clock()
            while len(self._held) > MOST_KEPT:
                self._held.popitem(last=False)
            left, at = self._held.get(who, (float(self.burst), now))
            left = min(float(self.burst), left + (now - at) * self.per_second)
            if left < 1:
                self._held[who] = (left, now)
                return (1 - left) / self.per_second
            self._held[who] = (left - 1, now)
            return 0.0
