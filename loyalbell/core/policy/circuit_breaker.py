"""When a channel is tried: a circuit breaker with a half-open try, and a rate that adapts.

Pure; instants are whole seconds since 1970. The pattern is Nygard's (*Release It!*, chapter on stability
patterns); the rate grows by one and is halved, as in congestion control (additive increase, multiplicative
decrease; Chiu and Jain 1989).
"""

from dataclasses import dataclass, replace

FIRST_PAUSE, LONGEST_PAUSE = 30, 900
"""Seconds until the next try; doubled after each that fails."""
SLOWED = 1
"""Seconds between two batches while a network's limit is felt."""
LONGEST_LIMIT = 3_600
"""Seconds that a network may ask us to wait; asked for longer, it is tried in between."""


@dataclass(frozen=True)
class Circuit:
    """How a channel stands.

    ``since``: from when on it has not been accepted; ``None`` while it is. ``words``: what the network said.
    ``try_at``: nothing is handed over before. ``failures``: tries in a row that failed. ``most``: how many
    are handed over at a time since the network set a limit; ``None`` where it set none.
    """

    since: int | None = None
    words: str = ""
    try_at: int = 0
    failures: int = 0
    most: int | None = None

    @property
    def is_open(self) -> bool:
        return self.since is not None

    def batch(self, now: int, usual: int) -> int:
        """How many messages may be handed over now: none, one to try it out, or up to ``usual``."""
        if now < self.try_at:
            return 0
        if self.is_open:
            return 1
        return usual if self.most is None else min(self.most, usual)

    def accepted(self, now: int, usual: int) -> "Circuit":
        """After a batch of which something was taken and no limit was met."""
        most = None if self.most is None or self.most >= usual else self.most + 1
        return Circuit(most=most, try_at=0 if most is None else now + SLOWED)

    def failed(self, now: int, words: str, wait: int | None = None) -> "Circuit":
        """After an answer that speaks of us or of the moment. ``wait``: seconds the network asked for."""
        pause = min(FIRST_PAUSE * 2 ** min(self.failures, 10), LONGEST_PAUSE)
        if wait is not None:
            pause = max(pause, min(wait, LONGEST_LIMIT))
        since = now if self.since is None else self.since
        return replace(self, since=since, words=words, try_at=now + pause, failures=self.failures + 1)

    def limited(self, now: int, handed: int, wait: int | None = None) -> "Circuit":
        """After the network's limit was met, ``handed`` messages into the batch: fewer at a time from now on.

        A limit is no fault: the channel stays open for business, only slower.
        """
        pause = min(max(wait or SLOWED, SLOWED), LONGEST_LIMIT)
        return replace(self, most=max(1, handed // 2), try_at=now + pause)
