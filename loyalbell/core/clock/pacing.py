"""Letting many people in a few at a time, and when the last of them is in."""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

from loyalbell.core.clock.send_windows import NO_QUIET, QuietHours, SendWindow, opens
from loyalbell.core.clock.zones import Zone


class NeverOpens(ValueError):
    """The hours chosen never come."""


@dataclass(frozen=True)
class Pace:
    """``batch`` people every ``every`` seconds, within the weekdays and hours of ``hours``."""

    batch: int
    every: int
    hours: SendWindow


@dataclass(frozen=True)
class Paced:
    """``finished_by``: when the interval that the last batch begins is over.

    Instants are whole seconds since 1970.
    """

    batches: int
    last_batch_at: int
    finished_by: int


def instants(start: int, pace: Pace, zone: Zone, quiet: QuietHours = NO_QUIET) -> Iterator[int]:
    """When each batch is let in, without an end. Raises ``NeverOpens``."""
    at = start
    while True:
        found = opens(at, pace.hours, quiet, zone)
        if found is None:
            raise NeverOpens("These weekdays and hours never come.")
        yield found
        at = found + pace.every


def paced(people: int, start: int, pace: Pace, zone: Zone, quiet: QuietHours = NO_QUIET) -> Paced:
    """Raises ``NeverOpens``, and ``ValueError`` for a batch or an interval that is not positive."""
    if pace.batch < 1 or pace.every < 60 or people < 1:
        raise ValueError(
            "There must be people, a batch of at least one, and a minute or more between batches."
        )
    batches = -(-people // pace.batch)
    last = next(islice(instants(start, pace, zone, quiet), batches - 1, None))
    return Paced(batches, last, last + pace.every)
