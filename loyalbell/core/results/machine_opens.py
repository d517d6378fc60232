"""Whether a picture was fetched by a program and not by a person, as far as can be told. Pure."""

import re

MACHINE = "machine"
"""What such a response says of itself."""
AT_ONCE_SECONDS = 2
"""Sooner than a person reads: a filter looking the message over (a decision of ours)."""
_SAYS_SO = re.compile(
    r"prefetch|pre-fetch|proxy|\bbot\b|bot/|crawl|spider|scan|preview|monitor|http-?client|curl|wget"
    r"|python|java/|okhttp|libwww|headless",
    re.IGNORECASE,
)
"""What programs call themselves (RFC 9110, section 10.1.5, asks them to name themselves; common practice)."""
_NAMES_NOTHING = re.compile(r"mozilla/5\.0", re.IGNORECASE)
"""A browser goes on and names its system; what stops there hides who asks (common practice, no source)."""


def is_machine(agent: str, seconds_after: float | None) -> bool:
    """``agent`` is the User-Agent; ``seconds_after`` how long after the message had left it was fetched.

    ``None``: while it was still being handed over. No time at all says nothing: the demo's clock may stand.
    """
    name = agent.strip()
    if not name or _SAYS_SO.search(name) or _NAMES_NOTHING.fullmatch(name):
        return True
    return seconds_after is None or 0 < seconds_after < AT_ONCE_SECONDS
