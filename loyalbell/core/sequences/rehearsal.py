"""What goes into a dry run, and what comes out of it.

Instants are whole seconds, people are person numbers.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.triggers import TriggerHit
from loyalbell.core.sequences.walk import Position


@dataclass(frozen=True)
class RehearsalScene:
    """A sequence in a rehearsal. ``key`` draws its arms; the lower ``rank`` goes first where two meet.

    ``backlog`` are crossings chosen by hand, beside those of its start; ``crossed`` are those of its start,
    where they have been found already; ``standing`` are (person, position) of those who are under way at the
    beginning; ``number`` is what rules call the sequence, 0 for a draft that no rule can name yet.
    """

    key: str
    tree: Tree
    rank: int = 0
    backlog: tuple[TriggerHit, ...] = ()
    before: Mapping[int, Sequence[int]] = field(default_factory=dict)
    crossed: Sequence[TriggerHit] | None = None
    standing: Sequence[tuple[int, Position]] = ()
    number: int = 0


class Sent(NamedTuple):
    """``entered``: when the run came in, of which it is."""

    at: int
    play: int
    person: int
    step: str
    channel: str
    entered: int


class Refused(NamedTuple):
    """A message that would have been due at ``at`` and would not have gone."""

    at: int
    play: int
    person: int
    step: str
    cause: str
    entered: int


class StayedOut(NamedTuple):
    """Somebody who crossed the start line and did not come in."""

    at: int
    play: int
    person: int
    cause: str


class CameIn(NamedTuple):
    at: int
    play: int
    person: int


class Line(NamedTuple):
    """One line of somebody's diary through a sequence: ``what`` is an act, or how they came in or went."""

    at: int
    play: int
    person: int
    what: str
    step: str
    detail: str


class Out(NamedTuple):
    """How somebody's way ended: ``state`` and ``cause``; ``messages`` they had got by then."""

    at: int
    play: int
    person: int
    entered: int
    state: str
    cause: str
    messages: int


@dataclass
class Rehearsal:
    """What would have happened with ``start < at <= end``; every list is in order of time."""

    start: int
    end: int
    sent: list[Sent] = field(default_factory=list)
    entered: list[CameIn] = field(default_factory=list)
    outs: list[Out] = field(default_factory=list)
    refused: list[Refused] = field(default_factory=list)
    stayed_out: list[StayedOut] = field(default_factory=list)
    arms: Counter[tuple[int, str, int]] = field(default_factory=Counter)
    diaries: dict[int, list[Line]] = field(default_factory=dict)
    standing: list[tuple[int, int, Position]] = field(default_factory=list)
    """Who is under way at the end, as (play, person, position)."""

    @property
    def under_way(self) -> int:
        return len(self.standing)

    def in_order(self) -> None:
        for rows in (self.sent, self.entered, self.outs, self.refused, self.stayed_out):
            rows.sort()
