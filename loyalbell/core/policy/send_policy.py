"""Who must not be written to, asked in one fixed order before every send."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field

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
    "held out",
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
    "held out": "in the group that gets no marketing this quarter, for comparison",
    "same address": "someone else at the same address gets it",
    "not filled": "a field is missing for this person",
    "not made": "could not be prepared for this person",
    "not written": "the message says nothing on a channel they can be reached on",
    "no open conversation": "no open chat, and no approved opening message",
    "not accepted": "refused by the receiving server",
    "stopped": "the campaign was stopped",
    "excluded": "in an excluded segment",
    "no reaction": "has not opened or clicked lately",
    "had it": "got it in an earlier round",
    "held back": "held back, for comparison",
    "contact limit": "reached the contact limit",
    "too late": "too late to be useful",
    "never opens": "its window never opens",
    "no message": "no message is chosen",
    "volume": "not approved",
    "left": "had left the sequence by then",
    "moved on": "moved on by hand",
}


class FrequencyCap(BaseModel):
    """At most ``count`` marketing messages to a person in any ``days`` x 24 hours, on all channels
    together.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    count: int = Field(default=2, ge=1, le=100)
    days: int = Field(default=7, ge=1, le=365)


REMEMBERED_DAYS = 366
"""How far back earlier messages count: a day more than the longest cap that can be set."""


def next_allowed(sent: Sequence[int], limits: Iterable[FrequencyCap], now: int) -> int:
    """The first instant, ``now`` or later, at which no limit speaks against another message.

    ``sent`` are the instants of earlier marketing messages, ascending, in seconds; none later than ``now``.
    """
    allowed = now
    for limit in limits:
        if len(sent) >= limit.count:
            allowed = max(allowed, sent[-limit.count] + limit.days * 86_400)
    return allowed


@dataclass(frozen=True)
class VolumeGuard:
    """The volume guard: a day beyond ``max(factor x normal, normal + floor)`` messages is held for a person's
    release.

    A sequence that has not rung for a week is taken to have at most ``newcomer`` of those on file as its
    normal day.
    """

    factor: float = 3.0
    floor: int = 50
    newcomer: float = 0.01

    def most(self, normal: float) -> int:
        return int(max(self.factor * normal, normal + self.floor))


class SendFacts(NamedTuple):
    """What is known of a person at the moment of sending on one channel.

    ``too_soon``: they asked to hear less often, and heard from us within that time. ``held_out``: they are of
    the few who get no marketing this quarter.
    """

    deceased: bool
    closed: bool
    suppressed: bool
    consent: str
    address: str | None
    paused: bool = False
    too_soon: bool = False
    held_out: bool = False


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
    if marketing and facts.too_soon:
        return "asked for less"
    return "held out" if marketing and facts.held_out else None


def _consent_cause(state: str) -> Cause:
    if state == "refused":
        return "refused"
    return "waiting" if state == "waiting" else "never asked"
