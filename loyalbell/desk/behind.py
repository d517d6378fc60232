"""What is worked out in the background, once for each state of things, while pages go on without it."""

from collections.abc import Callable
from threading import Lock, Thread
from typing import Generic, TypeVar

import structlog

log = structlog.get_logger()
Found = TypeVar("Found")


class Behind(Generic[Found]):
    """Keeps the newest ``keep`` results; what goes wrong is logged, and counts as ``otherwise``.

    Threads are finished before the program ends.
    """

    def __init__(self, keep: int, otherwise: Found) -> None:
        self._keep, self._otherwise = keep, otherwise
        self._found: dict[object, Found] = {}
        self._working: dict[object, Thread] = {}
        self._turn = Lock()

    def get(self, mark: object, work: Callable[[], Found], wait: bool = False) -> Found | None:
        """The result for ``mark``, or ``None`` while it is worked out; ``wait`` waits for it."""
        with self._turn:
            if mark not in self._found and mark not in self._working:
                thread = self._working[mark] = Thread(target=self._work, args=(mark, work))
                thread.start()
            working = self._working.get(mark)
        if wait and working is not None:
            working.join()
        return self._found.get(mark)

    def _work(self, mark: object, work: Callable[[], Found]) -> None:
        try:
            found = work()
        except Exception:
            log.exception("something could not be worked out in the background")
            found = self._otherwise
        with self._turn:
            self._found[mark] = found
            while len(self._found) > self._keep:
                self._found.pop(next(iter(self._found)))
            self._working.pop(mark, None)
