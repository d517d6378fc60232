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
    """What the network said. *unsure* means that it may or may not have taken the message."""

    delivery_id: int
    result: Result
    words: str


class Sender(Protocol):
    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        """Hands over each message at most once; one outcome a message, in any order. Never raises."""
        ...

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        """Whether the network took this message; ``None`` where it cannot be asked."""
        ...
