"""Putting the parts together in one process: pages, heartbeat and, in the demo, the post room."""

import gc
import socket
from pathlib import Path

import structlog
import uvicorn
from fastapi import FastAPI

from loyalbell.channels.email_in import MailIn
from loyalbell.channels.email_smtp import SmtpSender
from loyalbell.channels.post_room.acting import Doors, People
from loyalbell.channels.post_room.server import KEY, LOOPBACK, PostRoom, free_port
from loyalbell.channels.post_room.store import PostRoomStore
from loyalbell.desk import made_up_orders
from loyalbell.desk.channel_settings import GATEWAYS, loaded
from loyalbell.desk.clock import DemoClock
from loyalbell.desk.desk import Desk
from loyalbell.desk.incoming import take_mail
from loyalbell.desk.sender_setting import ShopSender, point_at
from loyalbell.desk.ticking import Heartbeat
from loyalbell.web.app import create_app
from loyalbell.web.moving import Mover

structlog.configure(
    processors=[
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso"),
        structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback),
    ]
)


def collect_seldom() -> None:
    """Lets Python look for cycles less often: the book in memory is large and has none, and each look stops every page."""
    gc.set_threshold(100_000, 50, 100)


class PortTaken(Exception):
    """The port that was asked for is in use."""


class Running:
    """Everything that runs for one data folder; ``start`` and ``stop`` it. ``mail_port`` takes in answers and reports."""

    def __init__(
        self, data: Path, port: int, demo_sign_in: tuple[str, str] | None = None, mail_port: int = 0
    ) -> None:
        self.desk = Desk(data)
        self.port = port
        is_demo = isinstance(self.desk.clock, DemoClock)
        self.store = PostRoomStore(data) if is_demo else None
        self.room = PostRoom(self.store, self.desk.clock.now) if self.store else None
        self.mail_in = (
            MailIn(lambda to, raw: take_mail(self.desk, to, raw), LOOPBACK, mail_port or free_port())
            if self.room or mail_port
            else None
        )
        self.people = self._people()
        self.heartbeat = Heartbeat(
            self.desk, ShopSender(self.desk, SmtpSender, self.store.has if self.store else None)
        )
        self.app: FastAPI = create_app(self.desk, self.heartbeat, self.store, demo_sign_in)
        self.app.state.mover = Mover(self.desk, self.heartbeat, self.people) if self.people else None

    def _people(self) -> People | None:
        """The demo's made-up customers, at our own doors."""
        if self.store is None or self.mail_in is None:
            return None
        desk = self.desk
        doors = Doors(
            LOOPBACK, self.mail_in.port, lambda: desk.the_shop().public_url,
            lambda channel: loaded(desk, GATEWAYS[channel]).secret,
            lambda channel, address, seed: made_up_orders.buy(desk, channel, address, seed),
        )  # fmt: skip
        return People(self.store, doors)

    @property
    def address(self) -> str:
        return f"http://{LOOPBACK}:{self.port}"

    def start(self) -> None:
        """Begins to listen for mail and to tick. Raises ``AlreadyTicking``."""
        collect_seldom()
        if self.room:
            port = self.room.start()
            point_at(self.desk, LOOPBACK, port, self.address, self.room.address, KEY)
        if self.mail_in:
            self.mail_in.start()
        self.heartbeat.start()
        if self.app.state.mover:
            self.app.state.mover.start()

    def serve(self) -> None:
        """Serves pages until interrupted. Raises ``PortTaken``."""
        check_free(self.port)
        self.start()
        try:
            uvicorn.run(self.app, host=LOOPBACK, port=self.port, log_level="warning", access_log=False)
        finally:
            self.stop()

    def stop(self) -> None:
        if self.app.state.mover:
            self.app.state.mover.stop()
        self.heartbeat.stop()
        if self.mail_in:
            self.mail_in.stop()
        if self.room:
            self.room.stop()
        if self.store:
            self.store.close()
        self.desk.close()


def check_free(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((LOOPBACK, port))
        except OSError as error:
            raise PortTaken(f"Port {port} is in use. Choose another, for example PORT={port + 1}.") from error
