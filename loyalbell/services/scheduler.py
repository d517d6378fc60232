"""The heartbeat: sends what is due, again and again, in a thread of its own."""

import time
from threading import Event, Thread

import structlog

from loyalbell.channels.sender import Sender
from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import dispatcher
from loyalbell.services.delivery.leader_lease import Lease
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.integrations import webhook_outbox
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.runner import SequenceRunner

log = structlog.get_logger()
REST_SECONDS = 1.0
RENEW_SECONDS = 15.0


def tick(application: Application, sender: Sender, ringing: SequenceRunner | None = None) -> int:
    """Everything that is due now, in batches: places in sequences moved on, then touches settled.

    One part that fails does not stop the others. Returns how many.
    """
    runner = ringing or SequenceRunner(application)
    done = 0
    for part in (campaign_commands.start_due, publishing.publish_due, lambda _: runner.tick()):
        try:
            done += part(application)
        except Exception:
            log.exception("a part of a tick failed; the others go on")
    while count := dispatcher.send_due(application, sender):
        done += count
    return done


class Heartbeat:
    """Ticks until stopped. Takes the tick lock first, and so refuses to run beside another."""

    def __init__(self, application: Application, sender: Sender) -> None:
        self.application, self.sender = application, sender
        self.ringing = SequenceRunner(application)
        self._lock = Lease(application)
        self._stop, self._wake = Event(), Event()
        self._thread = Thread(target=self._run, name="heartbeat", daemon=True)
        self._telling = Thread(target=self._notify_staff, name="webhooks", daemon=True)

    def start(self) -> None:
        """Raises ``AlreadyTicking``."""
        self._lock.take()
        import_commands.mend_after_stop(self.application)
        dispatcher.mend_after_stop(self.application, self.sender)
        self._thread.start()
        self._telling.start()

    def wake(self) -> None:
        """Ticks at once instead of after the rest."""
        self._wake.set()

    def waiting(self) -> bool:
        """Whether anything is due that has not been handed over."""
        return dispatcher.anything_due(self.application) or self.ringing.due()

    def stop(self) -> None:
        self._stop.set()
        self._wake.set()
        self._thread.join(timeout=30)
        self._telling.join(timeout=15)
        self._lock.release()

    def _settle(self) -> None:
        """Only this thread hands over, so whatever a failed tick left *handing* is in doubt now."""
        try:
            dispatcher.mend_after_stop(self.application, self.sender)
        except Exception:
            log.exception("a failed tick could not be settled; the next start does it")

    def _notify_staff(self) -> None:
        """Webhooks have a thread of their own: a slow receiver must not hold messages up."""
        while not self._stop.is_set():
            try:
                while webhook_outbox.deliver_due(self.application) and not self._stop.is_set():
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
                tick(self.application, self.sender, self.ringing)
            except Exception:
                log.exception("a tick failed")
                self._settle()
            self._wake.wait(REST_SECONDS)
            self._wake.clear()
