"""Who must not be written to, asked in one fixed order before every send."""

from dataclasses import dataclass
from typing import Literal

Cause = Literal["deceased", "closed", "suppressed", "refused", "waiting", "never asked", "no address"]

CAUSE_WORDS: dict[str, str] = {
    "deceased": "deceased",
    "closed": "account closed",
    "suppressed": "suppressed on this channel",
    "refused": "refused this channel",
    "waiting": "has not confirmed yet",
    "never asked": "never agreed to this channel",
    "no address": "no address on file",
    "same address": "someone else at the same address gets it",
    "not filled": "a field is missing for this person",
    "not written": "the message says nothing on a channel they can be reached on",
    "no open conversation": "no open chat, and no approved opening message",
    "not accepted": "not taken at the other end",
    "stopped": "the campaign was stopped",
}


@dataclass(frozen=True)
class SendFacts:
    """What is known of a person at the moment of sending on one channel."""

    deceased: bool
    closed: bool
    suppressed: bool
    consent: str
    address: str | None


def first_refusal(facts: SendFacts) -> Cause | None:
    """The first reason, in the settled order, why this must not be sent; ``None`` if there is none."""
    if facts.deceased:
        return "deceased"
    if facts.closed:
        return "closed"
    if facts.suppressed:
        return "suppressed"
    if facts.consent != "agreed":
        return _consent_cause(facts.consent)
    return None if facts.address else "no address"


def _consent_cause(state: str) -> Cause:
    if state == "refused":
        return "refused"
    return "waiting" if state == "waiting" else "never asked"
