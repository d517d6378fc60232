"""Long computations in a process of their own, so that pages have this one to themselves.

Python lets one thread of a process compute at a time: a rehearsal of a year would take half of every page's
time. The second process maps the same columns from the files beside the book (``storage/column_files.py``)
and follows the same change log, so it answers from what is in the book now. It only reads. It is started when
first needed and ended when nobody has needed it for a while; its memory goes with it.
"""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from multiprocessing.reduction import ForkingPickler
from pathlib import Path
from pickle import PicklingError
from threading import Lock, Timer
from typing import Any, TypeVar
from zlib import crc32

import structlog

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.services.application import Application, Progress
from loyalbell.services.background_work import Superseded
from loyalbell.services.memory import hand_back
from loyalbell.storage.column_files import Believed

log = structlog.get_logger()
Found = TypeVar("Found")
WORTH_ROWS = 500_000
"""Of a smaller book (some 12,000 customers) nothing takes so long that it is worth 250 MB of memory each."""
IDLE_SECONDS = 600.0
END_SECONDS = 5.0
NICENESS, NICENESS_BEFOREHAND = 5, 10
TOLD_EVERY = 0.1
"""Seconds between two words about how far it is."""
BEGIN = "from loyalbell.services.second_process import attend; attend()"


class CannotAnswer(Exception):
    """It numbers people differently, so that neither would understand the other; or what it found cannot be
    sent.
    """


@dataclass(frozen=True)
class Numbering:
    """Which number which person has: how many there are, and a checksum of their ids in this order."""

    people: int
    checksum: int

    @classmethod
    def of(cls, snapshot: HistorySnapshot, people: int | None = None) -> "Numbering":
        """Of the first so many ``people``, or of all."""
        ids = snapshot.people.ids[:people]
        return cls(len(ids), crc32(ids.tobytes()))


@dataclass(frozen=True)
class _Job:
    """``work`` is a function of a module; it is given an application on the same book, the arguments, and a
    function to say how far it is. ``now`` is what the clock says meanwhile.
    """

    work: Callable[..., Any]
    arguments: tuple[Any, ...]
    now: datetime
    columns: Believed
    numbering: Numbering


@dataclass(frozen=True)
class _Answer:
    """``kind``: how far it is, what was found, or what went wrong."""

    kind: str
    value: Any


class SecondProcess:
    """Two processes beside this one, each of which does one thing at a time: one for what somebody waits for,
    and one for what is worked out beforehand, so that nobody waits for that.
    """

    def __init__(self, application: Application, idle_seconds: float = IDLE_SECONDS) -> None:
        self._application = application
        self.awaited = _Lane(application, idle_seconds, NICENESS)
        self.beforehand = _Lane(application, idle_seconds, NICENESS_BEFOREHAND)

    def run(self, work: Callable[..., Found], *arguments: Any, progress: Progress, beforehand: bool) -> Found:
        """What ``work(application, *arguments, progress)`` finds, and what it raises.

        Here, in this thread, where the book is small, or the other has died. ``progress`` may raise
        ``Superseded`` to have it given up; so does the end of the program.
        """
        application = self._application
        columns = application.column_files() if application.snapshot().rows >= WORTH_ROWS else None
        if columns is None:
            return work(application, *arguments, progress)
        lane = self.beforehand if beforehand else self.awaited
        return lane.run(columns, work, arguments, progress)

    def close(self) -> None:
        """Ends both, whatever they are doing: they hold the book open."""
        for lane in (self.awaited, self.beforehand):
            lane.close()


class _Lane:
    """One of the two, and who waits for it."""

    def __init__(self, application: Application, idle_seconds: float, niceness: int) -> None:
        self._application, self.idle_seconds, self._niceness = application, idle_seconds, niceness
        self.turn = Lock()
        self.child: _Child | None = None
        self._idle: Timer | None = None
        self._closed = False

    def run(
        self, columns: Path, work: Callable[..., Found], arguments: tuple[Any, ...], progress: Progress
    ) -> Found:
        while not self.turn.acquire(timeout=TOLD_EVERY):
            progress(0.0)
        try:
            if self._closed:
                raise Superseded
            found: Found = self._asked(self._job(work, arguments, columns), progress)
            return found
        except CannotAnswer:
            self._end()  # begun again, it has the numbers of the files
            return work(self._application, *arguments, progress)
        except (OSError, EOFError) as problem:
            if self._closed:
                raise Superseded from problem
            log.warning("the second process died; its work is done here", said=repr(problem))
            self._end()
            return work(self._application, *arguments, progress)
        finally:
            self.turn.release()

    def _job(self, work: Callable[..., Any], arguments: tuple[Any, ...], columns: Path) -> _Job:
        snapshot, now = self._application.snapshot(), self._application.clock.now()
        return _Job(work, arguments, now, Believed(columns, 0), Numbering.of(snapshot))

    def _asked(self, job: _Job, progress: Progress) -> Any:
        child = self._there()
        given_up: BaseException | None = None
        try:
            child.line.send(job)
            while True:
                answer: _Answer = child.line.recv()
                if answer.kind == "so far" and given_up is None:
                    try:
                        progress(answer.value)
                    except Superseded as superseded:
                        # its last word must be heard even so: the next job's answer comes after it
                        given_up = superseded
                        child.process.send_signal(signal.SIGUSR1)
                elif answer.kind == "found" and given_up is None:
                    return answer.value
                elif answer.kind != "so far":
                    raise given_up or answer.value
        finally:
            self._end_when_idle()

    def _there(self) -> "_Child":
        if self._idle is not None:
            self._idle.cancel()
        if self.child is None or self.child.process.poll() is not None:
            self.child = _begun(self._application.data, self._niceness)
        return self.child

    def _end_when_idle(self) -> None:
        self._idle = Timer(self.idle_seconds, self._end_if_idle)
        self._idle.daemon = True
        self._idle.start()

    def _end_if_idle(self) -> None:
        if self.turn.acquire(blocking=False):
            try:
                self._end()
            finally:
                self.turn.release()

    def _end(self) -> None:
        child, self.child = self.child, None
        if child is None:
            return
        child.line.close()
        child.process.terminate()
        try:
            child.process.wait(END_SECONDS)
        except subprocess.TimeoutExpired:
            child.process.kill()
            child.process.wait()

    def close(self) -> None:
        """Ends it, whatever it is doing: it holds the book open."""
        self._closed = True
        child = self.child
        if child is not None:
            child.process.terminate()
        with self.turn:
            if self._idle is not None:
                self._idle.cancel()
            self._end()


@dataclass(frozen=True)
class _Child:
    process: "subprocess.Popen[bytes]"
    line: Connection


def _begun(data: Path, niceness: int) -> _Child:
    """Not one of ``multiprocessing``'s own: those begin by running the program's main module again."""
    ours, theirs = Pipe()
    with theirs:
        number = theirs.fileno()
        process = subprocess.Popen(  # noqa: S603 - this very Python, and a folder and a number of ours
            [sys.executable, "-c", BEGIN, str(data), str(number), str(niceness)], pass_fds=(number,)
        )
    return _Child(process, ours)


class _Fixed:
    """A clock that stands at the instant of the question."""

    def __init__(self, now: datetime) -> None:
        self._now = now

    def now(self) -> datetime:
        return self._now


def attend() -> None:
    """The life of the second process: jobs come by the line and answers go, until it is closed."""
    os.nice(int(sys.argv[3]))
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who stops the program by keyboard closes the line
    data, line = Path(sys.argv[1]), Connection(int(sys.argv[2]))
    giving_up = _GivingUp()
    application: Application | None = None
    while True:
        try:
            job: _Job = line.recv()
        except EOFError:
            os._exit(0)  # without closing the book as its owner would
        giving_up.asked = False
        clock = _Fixed(job.now)
        application = application or Application(data, clock, job.columns)
        application.clock = clock
        _send(line, _done(application, job, _teller(line, giving_up)))
        hand_back()


def _send(line: Connection, answer: _Answer) -> None:
    try:
        line.send(answer)
    except (PicklingError, AttributeError, TypeError) as problem:
        line.send(_Answer("went wrong", CannotAnswer(str(problem))))


class _GivingUp:
    """Whether the first process no longer wants the answer."""

    def __init__(self) -> None:
        self.asked = False
        signal.signal(signal.SIGUSR1, self._ask)

    def _ask(self, _number: int, _frame: object) -> None:
        self.asked = True


def _teller(line: Connection, giving_up: _GivingUp) -> Progress:
    told_at = 0.0

    def tell(share: float) -> None:
        nonlocal told_at
        if giving_up.asked:
            raise Superseded
        if time.monotonic() - told_at >= TOLD_EVERY:
            told_at = time.monotonic()
            line.send(_Answer("so far", share))

    return tell


def _done(application: Application, job: _Job, progress: Progress) -> _Answer:
    try:
        if Numbering.of(application.snapshot(), job.numbering.people) != job.numbering:
            raise CannotAnswer("other numbers")
        return _Answer("found", job.work(application, *job.arguments, progress))
    except Exception as problem:
        return _Answer("went wrong", _that_travels(problem))


def _that_travels(problem: Exception) -> Exception:
    """The problem, or its words where it cannot be taken apart and put together again."""
    try:
        ForkingPickler.loads(ForkingPickler.dumps(problem))
    except Exception:
        return RuntimeError(f"{type(problem).__name__}: {problem}")
    return problem
