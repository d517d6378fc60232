"""The heartbeat: sends what is due, again and again, in a thread of its own."""

import time
from threading import Event, Thread

import structlog

from loyalbell.channels.base import Sender
from loyalbell.desk import campaigns, importing, sending, webhooks
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences import publishing
from loyalbell.desk.sequences.ringing import Ringing
from loyalbell.desk.tick_lock import Lock

log = structlog.get_logger()
REST_SECONDS = 1.0
RENEW_SECONDS = 15.0


def tick(desk: Desk, sender: Sender, ringing: Ringing | None = None) -> int:
    """Everything that is due now, in batches: places in sequences moved on, then touches settled. Returns how many."""
    campaigns.start_due(desk)
    publishing.publish_due(desk)
    done = (ringing or Ringing(desk)).tick()
    while count := sending.send_due(desk, sender):
        done += count
    return done


class Heartbeat:
    """Ticks until stopped. Takes the tick lock first, and so refuses to run beside another."""

    def __init__(self, desk: Desk, sender: Sender) -> None:
        self.desk, self.sender = desk, sender
        self.ringing = Ringing(desk)
        self._lock = Lock(desk)
        self._stop, self._wake = Event(), Event()
        self._thread = Thread(target=self._run, name="heartbeat", daemon=True)
        self._telling = Thread(target=self._tell, name="webhooks", daemon=True)

    def start(self) -> None:
        """Raises ``AlreadyTicking``."""
        self._lock.take()
        importing.mend_after_stop(self.desk)
        sending.mend_after_stop(self.desk, self.sender)
        self._thread.start()
        self._telling.start()

    def wake(self) -> None:
        """Ticks at once instead of after the rest."""
        self._wake.set()

    def waiting(self) -> bool:
        """Whether anything is due that has not been handed over."""
        return sending.anything_due(self.desk) or self.ringing.due()

    def stop(self) -> None:
        self._stop.set()
        self._wake.set()
        self._thread.join(timeout=30)
        self._telling.join(timeout=15)
        self._lock.release()

    def _settle(self) -> None:
        """Only this thread hands over, so whatever a failed tick left *handing* is in doubt now."""
        try:
            sending.mend_after_stop(self.desk, self.sender)
        except Exception:
            log.exception("a failed tick could not be settled; the next start does it")

    def _tell(self) -> None:
        """Webhooks have a thread of their own: a slow receiver must not hold messages up."""
        while not self._stop.is_set():
            try:
                while webhooks.deliver_due(self.desk) and not self._stop.is_set():
                    pass
            except Exception:
                log.exception("webhooks could not be delivered")
            self._stop.wait(REST_SECONDS)

    def _run(self) -> None:
        renewed = time.monotonic()
        while not self._stop.is_set():
            try:
                if time.monotonic() - renewed > RENEW_SECONDS:
                    self._lock.take()
                    renewed = time.monotonic()
                tick(self.desk, self.sender, self.ringing)
            except Exception:
                log.exception("a tick failed")
                self._settle()
            self._wake.wait(REST_SECONDS)
            self._wake.clear()
