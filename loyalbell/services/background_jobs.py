"""Long work in the background, with its progress."""

from collections.abc import Callable
from dataclasses import dataclass
from threading import Lock, Thread

import structlog

log = structlog.get_logger()

Report = Callable[[float, str], None]


@dataclass
class Job:
    """``share`` runs from 0 to 1; ``words`` say what is being done."""

    share: float = 0.0
    words: str = "Starting"
    done: bool = False


class Jobs:
    """One job a key at a time."""

    def __init__(self) -> None:
        self._jobs: dict[str, Job] = {}
        self._lock = Lock()

    def start(self, key: str, work: Callable[[Report], None]) -> bool:
        """Begins the work in a thread of its own; false if the key is already at work."""
        with self._lock:
            if key in self._jobs and not self._jobs[key].done:
                return False
            job = self._jobs[key] = Job()
        Thread(target=self._run, args=(job, work), name=key, daemon=True).start()
        return True

    def find(self, key: str) -> Job | None:
        return self._jobs.get(key)

    def _run(self, job: Job, work: Callable[[Report], None]) -> None:
        def report(share: float, words: str) -> None:
            job.share, job.words = share, words

        try:
            work(report)
        except Exception:
            log.exception("a job failed")
        finally:
            job.done = True
