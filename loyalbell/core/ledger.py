"""The whole book as columns, sorted by time, with views as of any instant.

People are numbered 0 to n-1 in the order of their ids. Instants are whole
seconds since 1970-01-01T00:00Z; ``NEVER`` stands for one that has not come.
Money is integer minor units of the shop's currency.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
Small = NDArray[np.int32]
Mask = NDArray[np.bool_]

NEVER = np.int64(2**62)
CHANNELS = ("email", "text", "chat")
CONSENT_STATES = ("never asked", "agreed", "waiting", "refused")
AGREED = CONSENT_STATES.index("agreed")


@dataclass(frozen=True)
class People:
    """One row a person: ``ids`` ascending; ``has_address`` is people x channels."""

    ids: Ints
    joined_at: Ints
    closed_at: Ints
    deceased_at: Ints
    has_address: Mask

    def __len__(self) -> int:
        return len(self.ids)

    def on_file(self, as_of: int) -> Mask:
        """Who had joined by then and was neither closed nor deceased."""
        present = self.joined_at <= as_of
        return present & (self.closed_at > as_of) & (self.deceased_at > as_of)


@dataclass(frozen=True)
class Orders:
    """One row an order, by time. ``void_at`` is when it was cancelled or refunded whole."""

    person: Small
    at: Ints
    department: Small
    money: Ints
    void_at: Ints
    refunded_at: Ints
    refunded: Ints

    def __len__(self) -> int:
        return len(self.at)

    def span(self, start: int, end: int) -> slice:
        """The rows with ``start <= at <= end``."""
        low, high = np.searchsorted(self.at, (start, end + 1))
        return slice(int(low), int(high))

    def counted(self, rows: slice, as_of: int) -> Mask:
        """Which of these rows stood as purchases at ``as_of``."""
        return self.void_at[rows] > as_of

    def net_money(self, rows: slice, as_of: int) -> Ints:
        """Money of each row less what had been refunded by ``as_of``."""
        back = np.where(self.refunded_at[rows] <= as_of, self.refunded[rows], 0)
        return self.money[rows] - back


@dataclass(frozen=True)
class Consents:
    """The consent log by time: who said what about which channel."""

    person: Small
    channel: Small
    state: Small
    at: Ints


@dataclass(frozen=True)
class Suppressions:
    """Who must not be written to on which channel, from when until when."""

    person: Small
    channel: Small
    at: Ints
    lifted_at: Ints


@dataclass(frozen=True)
class Ledger:
    """One consistent state of the book. ``departments`` maps a department's id to its name."""

    zone: str
    currency: str
    departments: dict[int, str]
    people: People
    orders: Orders
    consents: Consents
    suppressions: Suppressions

    def agreed(self, channel: int, as_of: int) -> Mask:
        """Whose newest word about the channel, by ``as_of``, is yes."""
        log = self.consents
        seen = np.searchsorted(log.at, as_of + 1)
        rows = np.flatnonzero(log.channel[:seen] == channel)
        state = np.zeros(len(self.people), dtype=np.int32)
        state[log.person[rows]] = log.state[rows]
        agreed: Mask = state == AGREED
        return agreed

    def suppressed(self, channel: int, as_of: int) -> Mask:
        marks = self.suppressions
        holds = (marks.channel == channel) & (marks.at <= as_of) & (marks.lifted_at > as_of)
        out = np.zeros(len(self.people), dtype=np.bool_)
        out[marks.person[holds]] = True
        return out

    def reachable(self, channel: int, as_of: int) -> Mask:
        """Who has an address for the channel, agreed to it and is not suppressed on it."""
        mask = self.people.has_address[:, channel] & self.agreed(channel, as_of)
        return mask & ~self.suppressed(channel, as_of)

    def per_person(self, person: Small, weights: Ints | None = None) -> Ints:
        """Counts, or exact sums of ``weights``, per person number."""
        size = len(self.people)
        if weights is None:
            return np.bincount(person, minlength=size).astype(np.int64, copy=False)
        return np.rint(np.bincount(person, weights=weights, minlength=size)).astype(np.int64)

    def number_of(self, person_ids: Ints) -> Ints:
        """Person numbers of ids that are all on file."""
        return np.searchsorted(self.people.ids, person_ids)
