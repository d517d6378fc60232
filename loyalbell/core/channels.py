"""The ways on which a message can reach somebody. This is the only place that lists them."""

from dataclasses import dataclass
from typing import Literal

Channel = Literal["email", "text", "chat"]


@dataclass(frozen=True)
class ChannelType:
    """All that everything else needs to know of a channel besides its writing and its sender.

    ``address``: the attribute of a person that holds their address on it. ``usual_replies``: the share of
    messages that are answered, where the shop has no figure of its own yet (common practice, no source).
    """

    name: Channel
    plural: str
    article: str
    address: Literal["email", "phone", "chat_handle"]
    usual_replies: float

    @property
    def with_article(self) -> str:
        return f"{self.article} {self.name}"


TYPES: dict[str, ChannelType] = {
    made.name: made
    for made in (
        ChannelType("email", "emails", "an", "email", 0.01),
        ChannelType("text", "texts", "a", "phone", 0.05),
        ChannelType("chat", "chats", "a", "chat_handle", 0.1),
    )
}
"""In the settled order: columns of the snapshot are numbered by it, so a new one comes last."""
CHANNELS: tuple[Channel, ...] = tuple(made.name for made in TYPES.values())
