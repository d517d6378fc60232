"""Mail that comes in: answers of customers, delivery reports and complaints, by SMTP."""

from collections.abc import Callable, Sequence

import structlog
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

MOST_BYTES = 10_000_000
log = structlog.get_logger()
Upsert = Callable[[Sequence[str], bytes], None]


class _Receiver:
    def __init__(self, take: Upsert) -> None:
        self.take = take

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        try:
            self.take(envelope.rcpt_tos, envelope.original_content or b"")
        except Exception:
            log.exception("a mail that came in could not be taken")
            return "451 4.3.0 Try again later"
        return "250 2.0.0 Taken"


class MailIn:
    """Listens for mail and hands each to ``take(recipients, raw)``."""

    def __init__(self, take: Upsert, host: str, port: int) -> None:
        self.port = port
        self._controller = Controller(_Receiver(take), hostname=host, port=port, data_size_limit=MOST_BYTES)

    def start(self) -> None:
        self._controller.start()

    def stop(self) -> None:
        self._controller.stop()
