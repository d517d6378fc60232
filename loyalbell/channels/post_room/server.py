"""The post room's SMTP server, listening on this machine only."""

import socket
from collections.abc import Callable
from datetime import datetime

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from loyalbell.channels.post_room.store import PostRoomStore

LOOPBACK = "127.0.0.1"
NO_SUCH_BOX = "nobody@"


class _Receiver:
    def __init__(self, store: PostRoomStore, now: Callable[[], datetime]) -> None:
        self.store, self.now = store, now

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if address.startswith(NO_SUCH_BOX):
            return "550 5.1.1 No such mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        content = envelope.original_content or b""
        for recipient in envelope.rcpt_tos:
            self.store.keep(envelope.mail_from or "", recipient, content, self.now())
        return "250 2.0.0 Kept"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((LOOPBACK, 0))
        return int(probe.getsockname()[1])


class PostRoom:
    """Starts and stops the server; ``port`` 0 takes a free one."""

    def __init__(self, store: PostRoomStore, now: Callable[[], datetime], port: int = 0) -> None:
        self.store = store
        self._port = port or _free_port()
        self._controller = Controller(
            _Receiver(store, now), hostname=LOOPBACK, port=self._port, server_kwargs={"enable_SMTPUTF8": True}
        )

    def start(self) -> int:
        """Listens, and returns the port."""
        self._controller.start()
        return self._port

    def stop(self) -> None:
        self._controller.stop()
