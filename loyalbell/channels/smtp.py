"""Email over SMTP (RFC 5321), a few connections side by side."""

import asyncio
import threading
from collections.abc import Callable, Sequence

from aiosmtplib import SMTP, SMTPException, SMTPResponseException

from loyalbell.channels.sender import Outcome, Outgoing, Result, Sender, not_handed_over
from loyalbell.core.messages.mime import wire_address
from loyalbell.core.messages.refusals import is_limit, names_the_mailbox

TIMEOUT_SECONDS = 30.0
GOODBYE_SECONDS = 2.0


class SmtpSender(Sender):
    """``ask`` looks a Message-ID up at the receiving side, where that is possible.

    ``tls``: none, starttls, tls. Connections are kept from one call of ``send`` to the next until ``finish``.
    """

    def __init__(
        self,
        host: str,
        port: int,
        connections: int = 4,
        ask: Callable[[str], bool] | None = None,
        tls: str = "none",
        user: str = "",
        password: str = "",
        timeout: float = TIMEOUT_SECONDS,
    ) -> None:
        self.host, self.port, self.side_by_side, self.ask = host, port, connections, ask
        self.tls, self.user, self.password, self.timeout = tls, user, password, timeout
        self._loop: asyncio.AbstractEventLoop | None = None
        self._idle: list[SMTP] = []
        self._one_caller = threading.Lock()

    def _client(self) -> SMTP:
        return SMTP(
            hostname=self.host,
            port=self.port,
            timeout=self.timeout,
            start_tls=self.tls == "starttls",
            use_tls=self.tls == "tls",
            username=self.user or None,
            password=self.password or None,
        )

    def try_out(self) -> str:
        """What is wrong with the connection; empty where the server greets and takes the sign-in."""

        async def greet() -> None:
            async with self._client():
                pass

        try:
            asyncio.run(greet())
        except (SMTPException, OSError) as error:
            return f"The mail server does not take us: {error}."
        return ""

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        with self._one_caller:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
            return self._loop.run_until_complete(self._send_all(list(batch)))

    def finish(self, channel: str = "email") -> None:
        with self._one_caller:
            if self._loop is None:
                return
            self._loop.run_until_complete(self._say_goodbye())
            self._loop.close()
            self._loop = None

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return self.ask(message_id) if self.ask else None

    async def _send_all(self, waiting: list[Outgoing]) -> list[Outcome]:
        waiting.reverse()
        outcomes: list[Outcome] = []
        count = min(self.side_by_side, len(waiting))
        await asyncio.gather(*(self._work(waiting, outcomes) for _ in range(count)))
        because = next((outcome for outcome in outcomes if outcome.about_us), None)
        if because is not None:
            outcomes += [not_handed_over(message, because) for message in waiting]
        return outcomes

    async def _work(self, waiting: list[Outgoing], outcomes: list[Outcome]) -> None:
        """One connection's share. After an answer that speaks of us nothing more is tried."""
        client: SMTP | None = self._idle.pop() if self._idle else None
        while waiting and not any(outcome.about_us for outcome in outcomes):
            message = waiting.pop()
            if client is None or not client.is_connected:
                client = self._client()
                try:
                    await client.connect()
                except (SMTPException, OSError) as error:
                    outcomes.append(self._no_connection(message, error))
                    return
            outcomes.append(await self._hand_over(client, message))
        if client is not None and client.is_connected:
            self._idle.append(client)

    def _no_connection(self, message: Outgoing, error: Exception) -> Outcome:
        """What the server said, or in plain words that it said nothing."""
        if isinstance(error, SMTPResponseException):
            words, limit = f"{error.code} {error.message}", is_limit(error.code, error.message)
            return Outcome(message.delivery_id, "try later", words, about_us=True, is_limit=limit)
        words = f"no connection to the mail server at {self.host}, port {self.port}"
        return Outcome(message.delivery_id, "try later", words, about_us=True)

    async def _hand_over(self, client: SMTP, message: Outgoing) -> Outcome:
        """Before DATA nothing can have been taken; once DATA is under way only a reply is certain.

        Only an answer to RCPT can be about the mailbox; any other refusal speaks of us or of the moment.
        """
        certain: Result = "try later"
        is_recipient = False
        try:
            await client.mail(wire_address(message.sender))
            is_recipient = True
            await client.rcpt(wire_address(message.recipient))
            is_recipient, certain = False, "unsure"
            reply = await client.data(message.content)
            return Outcome(message.delivery_id, "accepted", f"{reply.code} {reply.message}")
        except SMTPResponseException as error:
            await _reset(client)
            return _answered(message, error, is_recipient, certain == "unsure")
        except (SMTPException, OSError) as error:
            client.close()
            return Outcome(message.delivery_id, certain, str(error), about_us=True)
        except ValueError as error:
            await _reset(client)
            return Outcome(message.delivery_id, "try later", f"the message cannot be handed over: {error}")

    async def _say_goodbye(self) -> None:
        for client in self._idle:
            try:
                await asyncio.wait_for(client.quit(), GOODBYE_SECONDS)
            except (TimeoutError, SMTPException, OSError):
                client.close()
        self._idle = []


def _answered(
    message: Outgoing, error: SMTPResponseException, is_recipient: bool, is_content: bool
) -> Outcome:
    """What a refusal with a code says: of the mailbox, of this message, or of us."""
    words = f"{error.code} {error.message}"
    if is_recipient and error.code >= 500 and names_the_mailbox(error.code, error.message):
        return Outcome(message.delivery_id, "refused", words)
    if is_limit(error.code, error.message):
        return Outcome(message.delivery_id, "try later", words, about_us=True, is_limit=True)
    of_this_message = is_content or (is_recipient and error.code < 500)
    return Outcome(message.delivery_id, "try later", words, about_us=not of_this_message)


async def _reset(client: SMTP) -> None:
    try:
        await client.rset()
    except (SMTPException, OSError):
        client.close()
