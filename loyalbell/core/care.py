"""Who must not be written to, asked in one fixed order before every send."""

from dataclasses import dataclass
from typing import Literal

Cause = Literal[
    "deceased",
    "closed",
    "suppressed",
    "refused",
    "waiting",
    "never asked",
    "no address",
    "paused",
    "asked for less",
]

CAUSE_WORDS: dict[str, str] = {
    "deceased": "deceased",
    "closed": "account closed",
    "suppressed": "suppressed on this channel",
    "refused": "refused this channel",
    "waiting": "has not confirmed yet",
    "never asked": "never agreed to this channel",
    "no address": "no address on file",
    "paused": "asked for a pause",
    "asked for less": "asked to hear less often",
    "same address": "someone else at the same address gets it",
    "not filled": "a field is missing for this person",
    "not written": "the message says nothing on a channel they can be reached on",
    "no open conversation": "no open chat, and no approved opening message",
    "not accepted": "not taken at the other end",
    "stopped": "the campaign was stopped",
}


@dataclass(frozen=True)
class SendFacts:
    """What is known of a person at the moment of sending on one channel.

    ``too_soon``: they asked to hear less often, and heard from us within that time.
    """

    deceased: bool
    closed: bool
    suppressed: bool
    consent: str
    address: str | None
    paused: bool = False
    too_soon: bool = False


def first_refusal(facts: SendFacts, marketing: bool = True) -> Cause | None:
    """The first reason, in the settled order, why this must not be sent; ``None`` if there is none.

    A service message is kept back neither by a pause nor by how often somebody wants to hear from us.
    """
    if facts.deceased:
        return "deceased"
    if facts.closed:
        return "closed"
    if facts.suppressed:
        return "suppressed"
    if facts.consent != "agreed":
        return _consent_cause(facts.consent)
    if not facts.address:
        return "no address"
    if marketing and facts.paused:
        return "paused"
    return "asked for less" if marketing and facts.too_soon else None


def _consent_cause(state: str) -> Cause:
    if state == "refused":
        return "refused"
    return "waiting" if state == "waiting" else "never asked"
