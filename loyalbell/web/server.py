"""Putting the parts together in one process: the pages, the heartbeat, and the door for incoming mail."""

import errno
import gc
import signal
import socket
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import uvicorn
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import ASGIApp

from loyalbell.channels.loopback import LOOPBACK
from loyalbell.channels.smtp import SmtpSender
from loyalbell.channels.smtp_inbound import MailIn
from loyalbell.services.application import Application
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.replies.inbound import take_mail
from loyalbell.services.scheduler import Heartbeat
from loyalbell.services.second_process import SecondProcess
from loyalbell.services.warm_up import warm_up
from loyalbell.web.app import create_app
from loyalbell.web.base_path import BasePath
from loyalbell.web.request import DemoParts
from loyalbell.web.server_settings import ServerSettings

EVERYWHERE = ("0.0.0.0", "::", "")  # noqa: S104
LEAST_PACKED, QUICKLY = 1_024, 4
"""Bytes from which an answer is compressed, and how hard; harder takes longer than it saves."""
KEEP_SECONDS = 75
"""For how long a connection is kept open: longer than one looks at a page."""
GRACE_SECONDS = 2
"""For how long open pages may hold up a stop; with the heartbeat's own seconds it is over within ten."""


SWITCH_SECONDS = 0.000_5


def switch_often() -> None:
    """A page asks the book dozens of times, and after each answer waits for the interpreter to be handed over
    by a thread that computes (a tick): by default for 5 ms each time, which made pages of 60 ms last 800.
    """
    sys.setswitchinterval(SWITCH_SECONDS)


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

    def __init__(
        self, data: Path, port: int, mail_port: int = 0, settings: ServerSettings | None = None
    ) -> None:
        self.application = Application(data)
        self.application.beside = SecondProcess(self.application)
        self._is_over = threading.Event()
        self.port, self.settings = port, settings or ServerSettings(data=data)
        self.mail_in = self._mail_in(mail_port) if mail_port else None
        self.heartbeat = Heartbeat(self.application, self.sender())
        self.web = create_app(
            self.application, self.heartbeat, self.demo_parts(), self.settings.metrics_token
        )

    def _mail_in(self, mail_port: int) -> MailIn:
        return MailIn(
            lambda to, raw: take_mail(self.application, to, raw), self.settings.mail_host, mail_port
        )

    @property
    def served(self) -> ASGIApp:
        """What is served: compressed, and under a path of its own where one is set."""
        base = self.settings.base_path
        within = BasePath(self.web, base) if base else self.web
        return GZipMiddleware(within, minimum_size=LEAST_PACKED, compresslevel=QUICKLY)

    def demo_parts(self) -> DemoParts | None:
        """What only a made-up shop adds to the pages; a real one has nothing of it."""
        return None

    def sender(self) -> ShopSender:
        return ShopSender(self.application, SmtpSender, None)

    @property
    def address(self) -> str:
        host = self.settings.host
        shown = f"[{host}]" if ":" in host else LOOPBACK if host in EVERYWHERE else host
        return f"http://{shown}:{self.port}{self.settings.base_path}"

    def start(self) -> None:
        """Begins to listen for mail and to tick. Raises ``AlreadyTicking``."""
        collect_seldom()
        switch_often()
        if self.mail_in:
            self.mail_in.start()
        self.heartbeat.start()
        self.application.remove_old_files()

    def serve(self, when_begun: Callable[[], None] = lambda: None) -> None:
        """Serves pages until interrupted. Raises ``PortTaken`` and ``AlreadyTicking``."""
        check_free(self.settings.host, self.port)
        # uvicorn hands the signal on once the pages are closed: unhandled, it would end the process before
        # what is under way is written down
        if threading.current_thread() is threading.main_thread():
            signal.signal(signal.SIGTERM, signal.default_int_handler)
        self.start()
        when_begun()
        threading.Thread(target=warm_up, args=(self.application, self._is_over.is_set), daemon=True).start()
        try:
            uvicorn.run(
                self.served,
                host=self.settings.host,
                port=self.port,
                log_level="warning",
                access_log=False,
                server_header=False,
                timeout_keep_alive=KEEP_SECONDS,
                proxy_headers=bool(self.settings.behind_proxy),
                forwarded_allow_ips=self.settings.behind_proxy or None,
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
        self._is_over.set()
        self.heartbeat.stop()
        if self.mail_in:
            self.mail_in.stop()

    def close(self) -> None:
        self.application.close()


def check_free(host: str, port: int) -> None:
    """Raises ``PortTaken`` where another program listens on the port already, or the address is not ours."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            if error.errno in (errno.EADDRNOTAVAIL, errno.EINVAL) or isinstance(error, socket.gaierror):
                raise PortTaken(
                    f"This machine has no address {host}. Use 127.0.0.1 for this machine alone, or 0.0.0.0."
                ) from error
            if error.errno == errno.EACCES:
                raise PortTaken(
                    f"Port {port} may only be used by the system. Choose one above 1024."
                ) from error
            raise PortTaken(f"Port {port} is in use. Choose another, for example PORT={port + 1}.") from error
