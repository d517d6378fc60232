"""The states of a message to a person, and which may follow which.

Written once: the services move a delivery through ``services/delivery/outbox.py``, and the database refuses
by a trigger (migration 0010) what this table does not allow.
"""

from enum import StrEnum


class DeliveryState(StrEnum):
    """Where a delivery stands.

    planned: will be handed over when due. held: above the volume guard, a person decides. paused: its
    sequence is. in_flight: written down before it is handed over. sent, bounced: the network took it, or
    refused it for good. withheld: not sent, with its cause. failed: its patience ran out without being taken.
    unsure: the connection or the program broke while it was in flight.
    """

    PLANNED = "planned"
    HELD = "held"
    PAUSED = "paused"
    IN_FLIGHT = "in_flight"
    SENT = "sent"
    BOUNCED = "bounced"
    WITHHELD = "withheld"
    FAILED = "failed"
    UNSURE = "unsure"


PLANNED, HELD, PAUSED, IN_FLIGHT, SENT, BOUNCED, WITHHELD, FAILED, UNSURE = DeliveryState

TRANSITIONS: dict[DeliveryState, frozenset[DeliveryState]] = {
    PLANNED: frozenset({IN_FLIGHT, HELD, PAUSED, WITHHELD, BOUNCED, FAILED}),
    HELD: frozenset({PLANNED, WITHHELD}),
    PAUSED: frozenset({PLANNED, WITHHELD}),
    IN_FLIGHT: frozenset({SENT, BOUNCED, UNSURE, FAILED, PLANNED}),
    UNSURE: frozenset({SENT, BOUNCED, PLANNED}),
    SENT: frozenset({BOUNCED}),
    FAILED: frozenset({PLANNED, BOUNCED, WITHHELD}),
    BOUNCED: frozenset(),
    WITHHELD: frozenset(),
}
"""What may follow. A report that an address is gone may come while the message waits for another try."""

MAY_BEGIN = frozenset({PLANNED, HELD, WITHHELD})
WAITING = (PLANNED, IN_FLIGHT)
HANDED_OVER = (SENT, BOUNCED)
PERHAPS_SENT = (SENT, UNSURE)
IN_HAND = (PLANNED, IN_FLIGHT, UNSURE)
LEFT_US = (SENT, BOUNCED, IN_FLIGHT, UNSURE)
COUNTED_BY_GUARD = (PLANNED, IN_FLIGHT, SENT, BOUNCED, UNSURE, FAILED)


class ForbiddenTransition(ValueError):
    """A delivery cannot go from the one state to the other."""


def check_transition(before: DeliveryState, after: DeliveryState) -> None:
    """Raises ``ForbiddenTransition``; to stay where one is is no transition."""
    if after is not before and after not in TRANSITIONS[before]:
        raise ForbiddenTransition(f"a delivery that is {before} cannot become {after}")


def sources_of(after: DeliveryState) -> list[DeliveryState]:
    """The states from which ``after`` can be reached in one step."""
    return [before for before, allowed in TRANSITIONS.items() if after in allowed]
