"""The heartbeat: does what is due, again and again; a thread for the sequences, one for each channel."""

import time
from collections.abc import Callable
from threading import Event, Thread, current_thread

import structlog

from loyalbell.channels.sender import Sender
from loyalbell.core.channels import CHANNELS
from loyalbell.services import retention
from loyalbell.services.application import Application
from loyalbell.services.backups.commands import BackupClock
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.customers import confirmation_mail
from loyalbell.services.delivery import after_stop, dispatcher
from loyalbell.services.delivery.leader_lease import Lease, LeaseLost
from loyalbell.services.health.room import is_room
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports.watched_folder import LOOK_EVERY, Watcher
from loyalbell.services.integrations import webhook_outbox
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.runner import SequenceRunner
from loyalbell.services.settings import secrets_at_rest
from loyalbell.services.today import summary_mail
from loyalbell.storage import change_log

log = structlog.get_logger()
REST_SECONDS = 1.0
ASK_AGAIN_SECONDS = 60.0
STOP_SECONDS = 8.0
"""For how long a stop waits for what is under way; the rest is settled at the next start."""
TIDY_SECONDS = 3_600.0
MOST_ROUNDS = 500
USUALLY_HANGS = 900.0
HANGS_SECONDS = {"backups": 7_200.0}
"""After so long at one step a thread is said to hang."""


def plan_due(application: Application, runner: SequenceRunner) -> int:
    """Campaigns begun, sequences published, places moved on. One part that fails does not stop the others."""
    done = 0
    for part in (campaign_commands.start_due, publishing.publish_due, lambda _: runner.tick()):
        try:
            done += part(application)
        except Exception:
            log.exception("a part of a tick failed; the others go on")
    return done


def tick(application: Application, sender: Sender, ringing: SequenceRunner | None = None) -> int:
    """Everything that is due now, in one thread: places moved on, messages handed over, and again while
    messages that have left let places go on. Returns how many places and messages.
    """
    runner = ringing or SequenceRunner(application)
    done = 0
    for _ in range(MOST_ROUNDS):
        done += plan_due(application, runner)
        sent = 0
        while count := dispatcher.send_due(application, sender):
            sent += count
        done += sent
        summary_mail.send_due(application, sender)
        confirmation_mail.send_due(application, sender)
        if not sent or not runner.due():
            break
    return done


class Heartbeat:
    """Ticks until stopped. Takes the lease first, and so refuses to run beside another."""

    def __init__(self, application: Application, sender: Sender) -> None:
        self.application, self.sender = application, sender
        self.ringing = SequenceRunner(application)
        self._lease = Lease(application)
        self.last_tick = 0.0
        """How long the last tick of the sequences took, in seconds."""
        self._pulses: dict[str, float] = {}
        self._backups = BackupClock(application)
        self._stop, self._wakes = Event(), [Event() for _ in range(len(CHANNELS) + 1)]
        self._threads = [
            Thread(target=self._plan, name="sequences", daemon=True),
            Thread(target=self._tell_programs, name="webhooks", daemon=True),
            Thread(target=self._back_up, name="backups", daemon=True),
            Thread(target=self._watch, name="watched folder", daemon=True),
            Thread(target=self._write_responses, name="opens and clicks", daemon=True),
            *(
                Thread(target=self._send, args=(channel, wake), name=f"send {channel}", daemon=True)
                for channel, wake in zip(CHANNELS, self._wakes[1:], strict=True)
            ),
        ]

    def start(self) -> None:
        """Raises ``AlreadyTicking``. Asks no network: that is done by the threads, after the pages are up."""
        self._lease.take()
        self._lease.keep_renewing()
        secrets_at_rest.look_after(self.application)
        import_commands.mend_after_stop(self.application)
        self.application.responses.is_served = True
        for thread in self._threads:
            thread.start()

    def wake(self) -> None:
        """Ticks at once instead of after the rest."""
        for event in self._wakes:
            event.set()

    def waiting(self) -> bool:
        """Whether anything is due that has not been handed over."""
        return dispatcher.anything_due(self.application) or self.ringing.due()

    def stop(self) -> None:
        """Takes nothing more in hand, and waits a few seconds for what is under way."""
        self._stop.set()
        self.wake()
        end = time.monotonic() + STOP_SECONDS
        for thread in self._threads:
            if thread.is_alive():
                thread.join(timeout=max(0.0, end - time.monotonic()))
        self.application.responses.is_served = False
        self.application.responses.flush()
        self._lease.release()

    def _plan(self) -> None:
        tidied = time.monotonic() - TIDY_SECONDS

        def step() -> None:
            nonlocal tidied
            with self.application.database.reading() as session:
                self._lease.check(session)
            if time.monotonic() - tidied >= TIDY_SECONDS:
                with self.application.database.transaction() as session:
                    change_log.shorten(session)
                retention.tidy(self.application)
                tidied = time.monotonic()
            began = time.monotonic()
            if is_room(self.application) and plan_due(self.application, self.ringing):
                self.wake_channels()
            self.last_tick = time.monotonic() - began

        self._again_and_again(step, self._wakes[0])

    def wake_channels(self) -> None:
        for event in self._wakes[1:]:
            event.set()

    def _send(self, channel: str, wake: Event) -> None:
        """A channel's own thread: a network that hangs stops neither the other channels nor the sequences."""
        asked = time.monotonic()
        mended = False

        def step() -> None:
            nonlocal asked, mended
            if not mended:
                after_stop.mend_after_stop(self.application, self.sender, [channel])
                mended = True
            if channel == "email":
                summary_mail.send_due(self.application, self.sender)
                confirmation_mail.send_due(self.application, self.sender)
            if time.monotonic() - asked > ASK_AGAIN_SECONDS:
                after_stop.ask_again(self.application, self.sender, [channel])
                asked = time.monotonic()
            try:
                while (
                    not self._stop.is_set()
                    and is_room(self.application)
                    and dispatcher.send_due(
                        self.application,
                        self.sender,
                        channels=[channel],
                        lease=self._lease,
                        stopping=self._stop.is_set,
                    )
                ):
                    self._wakes[0].set()
            except Exception:
                # what the failed step left in hand is settled before the next one
                mended = False
                raise

        self._again_and_again(step, wake)

    def _tell_programs(self) -> None:
        """Webhooks have a thread of their own: a slow receiver must not hold messages up."""

        def step() -> None:
            while webhook_outbox.deliver_due(self.application) and not self._stop.is_set():
                pass

        self._again_and_again(step, Event())

    def _write_responses(self) -> None:
        responses = self.application.responses
        self._again_and_again(lambda: responses.step(REST_SECONDS), Event(), 0.0)

    def _back_up(self) -> None:
        """Backups have a thread of their own: copying a large book takes a while."""
        self._again_and_again(self._backups.step, Event())

    def _watch(self) -> None:
        """The folder in which a till puts its files."""
        watcher = Watcher(self.application)
        self._again_and_again(watcher.step, Event(), LOOK_EVERY)

    def wrong(self) -> list[str]:
        """Which of its threads have ended or hang, in words; empty before it was started."""
        now, found = time.monotonic(), []
        for thread in self._threads:
            if thread.ident is not None and not thread.is_alive():
                found.append(f"“{thread.name}” has ended and does nothing any more. Start the program again.")
            elif now - self._pulses.get(thread.name, now) > HANGS_SECONDS.get(thread.name, USUALLY_HANGS):
                found.append(f"“{thread.name}” has been at one step for a long time.")
        return found

    def _again_and_again(self, step: Callable[[], None], wake: Event, rest: float = REST_SECONDS) -> None:
        name = current_thread().name
        while not self._stop.is_set():
            self._pulses[name] = time.monotonic()
            try:
                step()
            except LeaseLost:
                log.error("the lease is lost; this process sends nothing any more")
                return
            except Exception:
                log.exception("a step failed; the next one follows")
            wake.wait(rest)
            wake.clear()
