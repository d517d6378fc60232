"""Which message an order is put down to: at most one, with the reason. Pure; whole columns at once."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum

import numpy as np

from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints, Small, by_person_and_time, order_by_person
from loyalbell.core.results.defaults import WINDOW_DAYS


class Reason(IntEnum):
    """Why an order is put down to a message; the lower one wins over the higher."""

    NONE = -1
    CODE = 0
    CLICK = 1
    TEXT = 2
    OPEN = 3


REASON_WORDS = {
    Reason.CODE: "the code in it was used",
    Reason.CLICK: "a link in it was the last one clicked before",
    Reason.TEXT: "it was the last text or chat before",
    Reason.OPEN: "it was the last one opened before",
}


@dataclass(frozen=True)
class Touches:
    """What may have led to an order: who, when (seconds since 1970), and the message's delivery id."""

    person: Small
    at: Ints
    delivery: Ints

    def latest(self, person: Small, at: Ints, window: int) -> Ints:
        """For each order the delivery of its person's latest touch, ``at - window <= touch <= at``; else -1.

        Of two at one instant the later delivery counts. Orders sorted by person and time are found soonest:
        neighbours are looked up in the same part of memory.
        """
        if not len(self.at) or not len(at):
            return np.full(len(at), -1, dtype=np.int64)
        order = order_by_person(self.person, self.at)
        keys = by_person_and_time(self.person[order], self.at[order])
        if np.any(keys[1:] == keys[:-1]):
            order = np.lexsort((self.delivery, self.at, self.person))
        place = np.searchsorted(keys, by_person_and_time(person, at), side="right") - 1
        near = order[np.maximum(place, 0)]
        is_near = (place >= 0) & (self.person[near] == person) & (self.at[near] >= at - window)
        return np.where(is_near, self.delivery[near], -1)


@dataclass(frozen=True)
class Attributed:
    """For each order, in the order in which they were given: its delivery's id (-1: none) and the reason."""

    delivery: Ints
    reason: Small


def attribute(
    person: Small,
    at: Ints,
    kinds: Sequence[tuple[Reason, Touches]],
    window_days: int = WINDOW_DAYS,
) -> Attributed:
    """Each order at most once: to the first of ``kinds`` that was near enough, and of it the latest.

    (Rules of the job, section 7: the latest click, else the latest delivered text or chat, else, if the
    setting allows, the latest open.)
    """
    delivery = np.full(len(at), -1, dtype=np.int64)
    reason = np.full(len(at), Reason.NONE, dtype=np.int32)
    order = order_by_person(person, at)
    sorted_person, sorted_at = person[order], at[order]
    for kind, touches in sorted(kinds, key=lambda one: one[0]):
        found = touches.latest(sorted_person, sorted_at, window_days * DAY)
        fresh = (found >= 0) & (delivery[order] < 0)
        delivery[order[fresh]], reason[order[fresh]] = found[fresh], kind
    return Attributed(delivery, reason)
