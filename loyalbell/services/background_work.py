"""The one place for what is worked out once and kept, and for work that goes on behind a page.

Results are kept by topic and key, each topic bounded; those of a state of the book are dropped when a newer
state is asked about. What goes wrong in the background is logged and kept in ``problems``. Nothing here is
needed to go on after a restart: imports keep their state in the book, all else is worked out anew.
"""

import time
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable
from concurrent.futures import Future
from dataclasses import dataclass
from threading import Lock, Thread
from typing import Any, Generic, TypeVar

import structlog

from loyalbell.services.give_way import MAY_BE_OLD
from loyalbell.services.memory import hand_back

log = structlog.get_logger()
Found = TypeVar("Found")
Report = Callable[[float, str], None]
MOST_KEPT = 200
"""Results of one topic that are kept, the newest used; a topic may say less."""
MOST_PROBLEMS = 20
OLD_SECONDS = 5.0
MOST_ASKERS = 50
"""Of so many the newest questions are kept: whoever closed the page never comes for the answer."""


class Superseded(Exception):
    """Something newer is asked for, or the program ends: nobody waits for this any more."""


class ResultCache:
    """Results by topic and key.

    Asked by several at once, each is worked out once and the others wait for it.
    """

    def __init__(self) -> None:
        self._topics: dict[str, OrderedDict[Hashable, Future[Any]]] = {}
        self._versions: dict[str, int] = {}
        self._recent: OrderedDict[tuple[str, Hashable], tuple[float, Any]] = OrderedDict()
        self._turn = Lock()

    def get(self, topic: str, key: Hashable, work: Callable[[], Found], most: int = MOST_KEPT) -> Found:
        """The result, worked out where it is not there yet; what goes wrong is raised, and not kept."""
        with self._turn:
            kept = self._topics.setdefault(topic, OrderedDict())
            result: Future[Any] | None = kept.get(key)
            is_ours = result is None
            if result is None:
                result = kept[key] = Future()
            kept.move_to_end(key)
            while len(kept) > most:
                kept.popitem(last=False)
        if is_ours:
            try:
                result.set_result(work())
            except BaseException as problem:
                self._forget(topic, key, result)
                result.set_exception(problem)
                raise
        found: Found = result.result()
        return found

    def of_version(
        self, topic: str, version: int, key: Hashable, work: Callable[[], Found], most: int = MOST_KEPT
    ) -> Found:
        """The same for a state of the book; a newer state drops what was kept of older ones.

        Where figures may be a few seconds old (``MAY_BE_OLD``), those of an older state are given meanwhile.
        """

        def newest() -> Found:
            self._advance(topic, version)
            return self.get(topic, (version, key), work, most)

        return self.recent(topic, key, newest)

    def recent(self, topic: str, key: Hashable, work: Callable[[], Found]) -> Found:
        """Worked out at each look; where figures may be a few seconds old, only when those kept are older."""
        if not MAY_BE_OLD.get():
            return work()
        with self._turn:
            at, kept = self._recent.get((topic, key), (-OLD_SECONDS, None))
        if time.monotonic() - at < OLD_SECONDS:
            found: Found = kept
            return found
        result = work()
        with self._turn:
            self._recent[topic, key] = time.monotonic(), result
            while len(self._recent) > MOST_KEPT:
                self._recent.popitem(last=False)
        return result

    def forget_recent(self) -> None:
        """Somebody has changed something: they are to see it."""
        with self._turn:
            self._recent.clear()

    def of_parts(
        self, topic: str, parts: tuple[object, ...], key: Hashable, work: Callable[[], Found], most: int
    ) -> Found:
        """The same for parts of the book that do not change: kept while the very same ones stand, whatever
        else has changed.
        """
        # the parts are kept with the result, so that no other thing can get their identity meanwhile
        kept = self.get(topic, (tuple(map(id, parts)), key), lambda: (parts, work()), most)
        return kept[1]

    def peek(self, topic: str, key: Hashable) -> Any | None:
        """The result where it is there already, else ``None``; nothing is worked out or waited for."""
        with self._turn:
            result = self._topics.get(topic, OrderedDict()).get(key)
        return result.result() if result is not None and result.done() and not result.exception() else None

    def peek_version(self, topic: str, version: int, key: Hashable) -> Any | None:
        """``peek`` for a state of the book."""
        return self.peek(topic, (version, key))

    def _advance(self, topic: str, version: int) -> None:
        with self._turn:
            if self._versions.get(topic, version) < version:
                kept = self._topics.get(topic, OrderedDict())
                for key in [key for key in kept if isinstance(key, tuple) and key[0] < version]:
                    del kept[key]
            self._versions[topic] = max(version, self._versions.get(topic, version))

    def _forget(self, topic: str, key: Hashable, result: Future[Any]) -> None:
        with self._turn:
            if self._topics.get(topic, OrderedDict()).get(key) is result:
                del self._topics[topic][key]


@dataclass
class Job:
    """``share`` runs from 0 to 1; ``words`` say what is being done."""

    share: float = 0.0
    words: str = "Starting"
    done: bool = False


@dataclass(frozen=True)
class Problem:
    """Background work that failed: which, and what was raised."""

    key: str
    words: str


class Jobs:
    """Long work in the background with its progress, one job a key at a time."""

    def __init__(self) -> None:
        self._jobs: dict[str, Job] = {}
        self._lock = Lock()
        self.problems: deque[Problem] = deque(maxlen=MOST_PROBLEMS)

    def start(self, key: str, work: Callable[[Report], None]) -> bool:
        """Begins the work in a thread of its own; false if the key is already at work."""
        with self._lock:
            if key in self._jobs and not self._jobs[key].done:
                return False
            for finished in [name for name, job in self._jobs.items() if job.done][:-MOST_KEPT]:
                del self._jobs[finished]
            job = self._jobs[key] = Job()
        Thread(target=self._run, args=(key, job, work), name=key, daemon=True).start()
        return True

    def find(self, key: str) -> Job | None:
        return self._jobs.get(key)

    def _run(self, key: str, job: Job, work: Callable[[Report], None]) -> None:
        def report(share: float, words: str) -> None:
            job.share, job.words = share, words

        try:
            work(report)
        except Superseded:
            pass
        except Exception as problem:
            log.exception("a job failed", job=key)
            self.problems.append(Problem(key, f"{type(problem).__name__}: {problem}"))
        finally:
            job.done = True
            hand_back()


class BackgroundResults:
    """Results that are worked out behind the page, once for each key; pages go on without them."""

    def __init__(self) -> None:
        self._found: dict[str, OrderedDict[Hashable, Any]] = {}
        self._working: dict[tuple[str, Hashable], tuple[Thread, float]] = {}
        self._turn = Lock()
        self.problems: deque[Problem] = deque(maxlen=MOST_PROBLEMS)

    def get(
        self,
        topic: str,
        key: Hashable,
        work: Callable[[], Found],
        otherwise: Found,
        most: int,
        wait: bool | float = False,
    ) -> Found | None:
        """The result, or ``None`` while it is worked out.

        ``wait`` waits for it, or so many seconds since it was begun: whoever looks again meanwhile does not
        wait as long once more. ``otherwise`` where it goes wrong.

        Of a topic the newest ``most`` are kept. Threads are finished before the program ends.
        """
        with self._turn:
            found = self._found.setdefault(topic, OrderedDict())
            if key not in found and (topic, key) not in self._working:
                thread = Thread(target=self._work, args=(topic, key, work, otherwise, most))
                self._working[topic, key] = thread, time.monotonic()
                thread.start()
            working = self._working.get((topic, key))
        if wait and working is not None:
            thread, begun = working
            thread.join(None if wait is True else max(0.0, begun + float(wait) - time.monotonic()))
        result: Found | None = found.get(key)
        return result

    def newest(self, topic: str) -> Any | None:
        """The last result of a topic, whatever it was asked with: to show until a fresh one is there."""
        with self._turn:
            return next(reversed(self._found.get(topic, OrderedDict()).values()), None)

    def _work(
        self, topic: str, key: Hashable, work: Callable[[], Found], otherwise: Found, most: int
    ) -> None:
        try:
            result = work()
        except Superseded:
            with self._turn:
                self._working.pop((topic, key), None)
            return
        except Exception as problem:
            log.exception("something could not be worked out in the background", topic=topic)
            self.problems.append(Problem(topic, f"{type(problem).__name__}: {problem}"))
            result = otherwise
        with self._turn:
            found = self._found[topic]
            found[key] = result
            while len(found) > most:
                found.popitem(last=False)
            self._working.pop((topic, key), None)
        hand_back()


class LatestRequest(Generic[Found]):
    """The newest question of each asker, answered in the background.

    An older one still worked at is given up.

    An answer is handed out once.
    """

    def __init__(self) -> None:
        self._asked: dict[object, tuple[object, Future[Found]]] = {}
        self._turn = Lock()

    def ask(
        self,
        asker: object,
        question: object,
        work: Callable[[Callable[[float], None]], Found],
        seconds: float,
    ) -> Found | None:
        """Waits for up to ``seconds``; ``None`` where it takes longer: ask again. What goes wrong is raised.

        ``work`` gets a function which it calls now and then with the share that is done; it raises
        ``Superseded``.
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

    def _work(
        self, asker: object, answer: Future[Found], work: Callable[[Callable[[float], None]], Found]
    ) -> None:
        def go_on(share: float) -> None:
            if self._asked.get(asker, (None, None))[1] is not answer:
                raise Superseded

        try:
            answer.set_result(work(go_on))
        except Exception as problem:
            answer.set_exception(problem)
