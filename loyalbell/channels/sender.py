"""What every channel's sender promises."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

Result = Literal["accepted", "refused", "try later", "unsure"]


@dataclass(frozen=True)
class Outgoing:
    """One message ready to hand over.

    ``content`` is in the channel's own form: a mail, or JSON for a gateway.
    """

    delivery_id: int
    sender: str
    recipient: str
    message_id: str
    content: bytes
    channel: str = "email"


@dataclass(frozen=True)
class Outcome:
    """What the network said.

    *accepted*: it has the message. *refused*: this mailbox or number is not there. *try later*: it has not
    taken it. *unsure*: it may or may not have taken it. ``about_us``: what it said is not about this message
    (no connection, sign-in, credit, a wrong address of the gateway), so that the others would hear the same.
    ``is_limit``: it asks for fewer at a time. ``wait``: seconds it asks to wait.
    """

    delivery_id: int
    result: Result
    words: str
    about_us: bool = False
    is_limit: bool = False
    wait: int | None = None


class Sender(Protocol):
    side_by_side: int = 4
    """How many messages are handed over at the same time, and so can be in doubt after a crash."""

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        """Hands over each message at most once; one outcome a message, in any order. Never raises.

        Connections may stay open until ``finish``.
        """
        ...

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        """Whether the network took this message; ``None`` where it cannot be asked."""
        ...

    def finish(self, channel: str = "email") -> None:
        """Closes what ``send`` left open."""
        return


def not_handed_over(message: Outgoing, because: Outcome) -> Outcome:
    """For a message that was not tried after an answer that speaks of us."""
    return Outcome(message.delivery_id, "try later", because.words, True, because.is_limit, because.wait)
