"""Moving the demo's clock on in small steps, so that everything happens in its own time on the way."""

import time
from datetime import timedelta
from threading import Event, Lock, Thread

import structlog
from sqlalchemy import func, select

from loyalbell.demo.passing_days import PassingDays
from loyalbell.post_room.doors import People
from loyalbell.services.application import Application
from loyalbell.services.clock import DemoClock
from loyalbell.services.scheduler import Heartbeat
from loyalbell.storage.schema import Person

log = structlog.get_logger()
HOUR = 3_600
LEAST, MOST_LEAST = 5, 30
"""Minutes of the shortest step: with many customers something is due every minute, and a step for each of
them would take all day.
"""
PEOPLE_A_LEAST = 10_000
REST_SECONDS = 1.0
SETTLE_SECONDS = 120.0


def shortest_step(people: int) -> timedelta:
    """Five minutes, and five more for each ten thousand on file, to half an hour."""
    return timedelta(minutes=min(LEAST * (1 + people // PEOPLE_A_LEAST), MOST_LEAST))


class DemoClockDriver:
    """Lets the made-up people act, and walks the clock to where it was told to go."""

    def __init__(self, application: Application, heartbeat: Heartbeat, people: People) -> None:
        self.application, self.heartbeat, self.people, self.days = (
            application,
            heartbeat,
            people,
            PassingDays(application),
        )
        self._stop, self._wake, self._lock = Event(), Event(), Lock()
        self._left = self._asked = timedelta()
        self._thread = Thread(target=self._run, name="made-up people", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._wake.set()
        self._thread.join(timeout=30)

    def move_on(self, step: timedelta) -> None:
        """Begins to walk; more may be asked while it is under way."""
        with self._lock:
            self._left += step
            self._asked += step
        self._wake.set()

    @property
    def share(self) -> float:
        """How much of what was asked is behind us, from 0 to 1; 1 where nothing is under way."""
        with self._lock:
            return 1.0 - self._left / self._asked if self._asked else 1.0

    def _run(self) -> None:
        while not self._stop.is_set():
            try:
                self._let_act()
                self._walk()
            except Exception:
                log.exception("the made-up people stumbled")
            self._wake.wait(REST_SECONDS)
            self._wake.clear()

    def _let_act(self) -> None:
        self.people.look()
        while self.people.act(self.application.clock.now()) and not self._stop.is_set():
            self.people.look()

    def _walk(self) -> None:
        clock = self.application.clock
        assert isinstance(clock, DemoClock)
        while not self._stop.is_set():
            with self._lock:
                step = min(self._left, self._next(clock))
            if step <= timedelta():
                break
            self.days.pass_until(clock.move_on(step))
            self._settle()
            self._let_act()
            with self._lock:
                self._left -= step
                if self._left <= timedelta():
                    self._left = self._asked = timedelta()

    def _next(self, clock: DemoClock) -> timedelta:
        """To the next thing that somebody does or that is due, to the full hour at most."""
        now = int(clock.now().timestamp())
        hour = timedelta(seconds=HOUR - now % HOUR)
        asked = (self.people.store.next_due(), self.heartbeat.ringing.next_due(), self.days.next_due())
        due = [one for one in asked if one is not None]
        wait = min(due, default=now + HOUR) - now
        return min(hour, max(timedelta(seconds=wait), shortest_step(self._people())))

    def _people(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(Person)) or 0

    def _settle(self) -> None:
        """Waits until everything that is due now has been handed over."""
        self.heartbeat.wake()
        end = time.monotonic() + SETTLE_SECONDS
        while self.heartbeat.waiting() and time.monotonic() < end and not self._stop.is_set():
            time.sleep(0.02)
