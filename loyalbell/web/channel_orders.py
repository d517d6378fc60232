"""In which order channels can be tried, in words."""

from collections.abc import Sequence

from loyalbell.core.sequences.wording import say_channels

ORDERS = (
    ("email", "by email"),
    ("text email", "by text if they agreed to it, else by email"),
    ("email text", "by email, else by text"),
    ("chat text email", "by chat, else by text, else by email"),
    ("text", "by text"),
    ("chat", "by chat"),
)


def orders_with(channels: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """The usual ones, and the one that stands there: a chooser without it would change it unasked."""
    own = " ".join(channels)
    return ORDERS if not own or own in dict(ORDERS) else (*ORDERS, (own, say_channels(tuple(channels))))
