"""Email over SMTP (RFC 5321), a few connections side by side."""

import asyncio
from collections.abc import Callable, Sequence

from aiosmtplib import SMTP, SMTPException, SMTPResponseException

from loyalbell.channels.sender import Outcome, Outgoing, Result
from loyalbell.core.messages.mime import wire_address
from loyalbell.core.messages.refusals import names_the_mailbox

TIMEOUT_SECONDS = 30


class SmtpSender:
    """``ask`` looks a Message-ID up at the receiving side, where that is possible.

    ``tls``: none, starttls, tls.
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
    ) -> None:
        self.host, self.port, self.connections, self.ask = host, port, connections, ask
        self.tls, self.user, self.password = tls, user, password

    def _client(self) -> SMTP:
        return SMTP(
            hostname=self.host,
            port=self.port,
            timeout=TIMEOUT_SECONDS,
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
        return asyncio.run(self._send_all(list(batch)))

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return self.ask(message_id) if self.ask else None

    async def _send_all(self, waiting: list[Outgoing]) -> list[Outcome]:
        waiting.reverse()
        outcomes: list[Outcome] = []
        count = min(self.connections, len(waiting))
        await asyncio.gather(*(self._work(waiting, outcomes) for _ in range(count)))
        return outcomes

    async def _work(self, waiting: list[Outgoing], outcomes: list[Outcome]) -> None:
        client: SMTP | None = None
        while waiting:
            message = waiting.pop()
            if client is None or not client.is_connected:
                client = self._client()
                try:
                    await client.connect()
                except (SMTPException, OSError) as error:
                    outcomes.append(Outcome(message.delivery_id, "try later", f"no connection: {error}"))
                    client = None
                    continue
            outcomes.append(await self._hand_over(client, message))
        if client is not None and client.is_connected:
            await _say_goodbye(client)

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
            refused = is_recipient and error.code >= 500 and names_the_mailbox(error.code, error.message)
            result: Result = "refused" if refused else "try later"
            return Outcome(message.delivery_id, result, f"{error.code} {error.message}")
        except (SMTPException, OSError) as error:
            client.close()
            return Outcome(message.delivery_id, certain, str(error))
        except ValueError as error:
            await _reset(client)
            return Outcome(message.delivery_id, "try later", f"the message cannot be handed over: {error}")


async def _reset(client: SMTP) -> None:
    try:
        await client.rset()
    except (SMTPException, OSError):
        client.close()


async def _say_goodbye(client: SMTP) -> None:
    try:
        await client.quit()
    except (SMTPException, OSError):
        client.close()
