"""Only one process may tick: a row in the book says which, and whether it still lives."""

import os
import secrets
from datetime import UTC, datetime, timedelta

from sqlalchemy import delete

from loyalbell.services.application import Application
from loyalbell.storage.schema import LeaderLease

STALE = timedelta(seconds=60)


class AlreadyTicking(Exception):
    """Another process holds the lock."""


def _lives(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


class Lease:
    """Taken at the start and renewed at every tick, by the time of day."""

    def __init__(self, application: Application) -> None:
        self.application = application
        self.holder = secrets.token_hex(8)

    def take(self) -> None:
        """Raises ``AlreadyTicking`` while another living process holds the lock."""
        now = datetime.now(UTC)
        with self.application.database.transaction() as session:
            held = session.get(LeaderLease, 1)
            if held is None:
                session.add(LeaderLease(id=1, holder=self.holder, pid=os.getpid(), seen_at=now))
                return
            other = held.holder != self.holder
            if other and held.pid != os.getpid() and _lives(held.pid) and held.seen_at > now - STALE:
                raise AlreadyTicking(
                    f"Process {held.pid} already sends messages for {self.application.database.path}. "
                    "Stop it first, or use its pages."
                )
            held.holder, held.pid, held.seen_at = self.holder, os.getpid(), now

    def release(self) -> None:
        with self.application.database.transaction() as session:
            session.execute(delete(LeaderLease).where(LeaderLease.holder == self.holder))
