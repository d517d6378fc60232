"""Only one process may tick: a lease in the book with a fencing number, renewed by a thread of its own.

The pattern is Kleppmann's (*Designing Data-Intensive Applications*, chapter 8): whoever takes the lease gets
a higher number, and whoever still holds an older one is refused at the next writing.
"""

import os
import secrets
from datetime import UTC, datetime, timedelta
from threading import Event, Thread

import structlog
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.storage.file_lock import FileLock
from loyalbell.storage.schema import LeaderLease

STALE = timedelta(seconds=60)
RENEW_SECONDS = 10.0
LOCK_FILE = "running.lock"
THIS_PROCESS = secrets.token_hex(8)
"""Tells processes apart; their numbers would not, in containers that share a folder."""
log = structlog.get_logger()


class AlreadyTicking(Exception):
    """Another process holds the lease."""


class LeaseLost(Exception):
    """Another process has taken the lease; this one must not hand over anything any more."""


class Lease:
    """Taken at the start, renewed while it is held, checked in every transaction that sends."""

    def __init__(self, application: Application) -> None:
        self.application = application
        self.holder = f"{THIS_PROCESS}.{secrets.token_hex(4)}"
        self._lock = FileLock(application.data / LOCK_FILE)
        self.number = 0
        self._end = Event()
        self._thread: Thread | None = None

    def take(self) -> None:
        """Raises ``AlreadyTicking`` while another living process holds the lease.

        A process that died left its lock to the system, so its lease is taken over at once; one that lives
        and has not renewed it for a minute hangs, and is fenced off.
        """
        is_free = self._lock.take()
        now = datetime.now(UTC)
        with self.application.database.transaction() as session:
            held = session.get(LeaderLease, 1)
            if held is None:
                held = LeaderLease(id=1, holder="", pid=0, seen_at=now, number=0)
                session.add(held)
            is_others = not held.holder.startswith(THIS_PROCESS)
            if is_others and not is_free and held.seen_at > now - STALE:
                raise AlreadyTicking(
                    f"Loyal Bell is already running on {self.application.database.path}. "
                    "Stop it first, or use its pages."
                )
            self.number = held.number + 1
            held.holder, held.pid, held.seen_at, held.number = self.holder, os.getpid(), now, self.number

    def check(self, session: Session) -> None:
        """Raises ``LeaseLost`` where another has taken it. Asked within the transaction that writes."""
        held = session.get(LeaderLease, 1)
        if held is None or (held.holder, held.number) != (self.holder, self.number):
            raise LeaseLost("Another process sends messages for this book now.")

    def renew(self) -> None:
        """Raises ``LeaseLost``."""
        with self.application.database.transaction() as session:
            self.check(session)
            session.get_one(LeaderLease, 1).seen_at = datetime.now(UTC)

    def keep_renewing(self) -> None:
        """Renews it in a thread of its own, however long a tick takes."""
        self._end.clear()
        self._thread = Thread(target=self._renew_until_end, name="lease", daemon=True)
        self._thread.start()

    def _renew_until_end(self) -> None:
        while not self._end.wait(RENEW_SECONDS):
            try:
                self.renew()
            except LeaseLost:
                log.error("another process has taken the lease; nothing is sent from here any more")
                return
            except Exception:
                log.exception("the lease could not be renewed; tried again soon")

    def release(self) -> None:
        self._end.set()
        if self._thread is not None:
            self._thread.join(timeout=2)
        with self.application.database.transaction() as session:
            held = session.get(LeaderLease, 1)
            if held is not None and held.holder == self.holder:
                # the row stays for its number: a number that began anew could be met again
                held.holder, held.pid = "", 0
        self._lock.release()
