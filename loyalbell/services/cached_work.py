"""What is worked out in the background, once for each state of things, while pages go on without it."""

from collections.abc import Callable
from concurrent.futures import Future
from threading import Lock, Thread
from typing import Generic, TypeVar

import structlog

log = structlog.get_logger()
Found = TypeVar("Found")


class BackgroundResults(Generic[Found]):
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


MOST_ASKERS = 50
"""Of so many the newest questions are kept: whoever closed the page never comes for the answer."""


class Superseded(Exception):
    """Something newer is asked for, so that nobody waits for this any more."""


class LatestRequest(Generic[Found]):
    """The newest question of each asker, answered in the background; an older one still worked at is given up.

    An answer is handed out once.
    """

    def __init__(self) -> None:
        self._asked: dict[object, tuple[object, Future[Found]]] = {}
        self._turn = Lock()

    def ask(self, asker: object, question: object, work: Callable[[Callable[[float], None]], Found], seconds: float) -> Found | None:  # fmt: skip
        """Waits for up to ``seconds``; ``None`` where it takes longer: ask again. What goes wrong is raised.

        ``work`` gets a function which it calls now and then with the share that is done.
        """
        with self._turn:
            known = self._asked.get(asker)
            if known is None or known[0] != question:
                self._asked.pop(asker, None)
                known = self._asked[asker] = (question, Future())
                while len(self._asked) > MOST_ASKERS:
                    self._asked.pop(next(iter(self._asked)))
                Thread(target=self._work, args=(asker, known[1], work)).start()
        try:
            found = known[1].result(seconds)
        except TimeoutError:
            return None
        except Exception:
            self._forget(asker, known[1])
            raise
        self._forget(asker, known[1])
        return found

    def _forget(self, asker: object, answer: Future[Found]) -> None:
        with self._turn:
            if self._asked.get(asker, (None, None))[1] is answer:
                del self._asked[asker]

    def _work(self, asker: object, answer: Future[Found], work: Callable[[Callable[[float], None]], Found]) -> None:  # fmt: skip
        def go_on(share: float) -> None:
            if self._asked.get(asker, (None, None))[1] is not answer:
                raise Superseded

        try:
            answer.set_result(work(go_on))
        except Exception as problem:
            answer.set_exception(problem)
