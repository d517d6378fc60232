"""Putting the parts together in one process: the pages, the heartbeat, and the door for incoming mail."""

import gc
import signal
import socket
import threading
from pathlib import Path

import structlog
import uvicorn

from loyalbell.channels.loopback import LOOPBACK
from loyalbell.channels.smtp import SmtpSender
from loyalbell.channels.smtp_inbound import MailIn
from loyalbell.services.application import Application
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.replies.inbound import take_mail
from loyalbell.services.scheduler import Heartbeat
from loyalbell.web.app import create_app
from loyalbell.web.request import DemoParts

structlog.configure(
    processors=[
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso"),
        structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback),
    ]
)


GRACE_SECONDS = 2
"""For how long open pages may hold up a stop; with the heartbeat's own seconds it is over within ten."""


def collect_seldom() -> None:
    """Lets Python look for cycles less often: the snapshot is large and has none, and each look stops every
    page.
    """
    gc.set_threshold(100_000, 50, 100)


class PortTaken(Exception):
    """The port that was asked for is in use."""


class Server:
    """Everything that runs for one data folder.

    ``start`` and ``stop`` it. ``mail_port`` takes in replies and reports.
    """

    def __init__(self, data: Path, port: int, mail_port: int = 0) -> None:
        self.application = Application(data)
        self.port = port
        self.mail_in = self._mail_in(mail_port) if mail_port else None
        self.heartbeat = Heartbeat(self.application, self.sender())
        self.web = create_app(self.application, self.heartbeat, self.demo_parts())

    def _mail_in(self, mail_port: int) -> MailIn:
        return MailIn(lambda to, raw: take_mail(self.application, to, raw), LOOPBACK, mail_port)

    def demo_parts(self) -> DemoParts | None:
        """What only a made-up shop adds to the pages; a real one has nothing of it."""
        return None

    def sender(self) -> ShopSender:
        return ShopSender(self.application, SmtpSender, None)

    @property
    def address(self) -> str:
        return f"http://{LOOPBACK}:{self.port}"

    def start(self) -> None:
        """Begins to listen for mail and to tick. Raises ``AlreadyTicking``."""
        collect_seldom()
        if self.mail_in:
            self.mail_in.start()
        self.heartbeat.start()

    def serve(self) -> None:
        """Serves pages until interrupted. Raises ``PortTaken`` and ``AlreadyTicking``."""
        check_free(self.port)
        # uvicorn hands the signal on once the pages are closed: unhandled, it would end the process before
        # what is under way is written down
        if threading.current_thread() is threading.main_thread():
            signal.signal(signal.SIGTERM, signal.default_int_handler)
        self.start()
        try:
            uvicorn.run(
                self.web,
                host=LOOPBACK,
                port=self.port,
                log_level="warning",
                access_log=False,
                timeout_graceful_shutdown=GRACE_SECONDS,
            )
        except KeyboardInterrupt:
            pass
        finally:
            self.stop()

    def stop(self) -> None:
        self.stop_ticking()
        self.close()

    def stop_ticking(self) -> None:
        """Ends the heartbeat and the door for incoming mail; the book stays open."""
        self.heartbeat.stop()
        if self.mail_in:
            self.mail_in.stop()

    def close(self) -> None:
        self.application.close()


def check_free(port: int) -> None:
    """Raises ``PortTaken`` where another program listens on the port already."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((LOOPBACK, port))
        except OSError as error:
            raise PortTaken(f"Port {port} is in use. Choose another, for example PORT={port + 1}.") from error
