"""Somebody's position in a sequence while it is walked on, and what the steps do to it.

Pure. Instants are whole seconds since 1970.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple, Protocol

from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import Zone
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.event_filter import EventFilter

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree

UNDER_WAY, FINISHED, LEFT = "under way", "finished", "left"
ON_ITS_WAY, PASSED = "on its way", "passed"
"""Of a place whose message has been planned and has not left yet, and of one that may go on after it."""


class Position(NamedTuple):
    """Where somebody stands.

    ``due`` is when the step is looked at again; ``settled`` whether ``due`` is of this step already, or when
    they arrived at it. ``tried`` is when its message might first have gone, or when they came to a wait.
    ``anchor`` is the instant that the event or date which brought them in is about. ``sent`` are the steps
    whose message they got, the newest last. ``awaits``: whether they stand at a message that is on its way or
    held, or have been let past it.
    """

    entered: int
    due: int
    step: str | None
    anchor: int = 0
    settled: bool = False
    tried: int | None = None
    sent: tuple[str, ...] = ()
    state: str = UNDER_WAY
    cause: str | None = None
    awaits: str = ""


def past_message(position: Position, at: int, got: bool) -> Position:
    """Their message has left at ``at``, or been kept back then; later waits count from that instant."""
    sent = (*position.sent, position.step) if got and position.step is not None else position.sent
    return position._replace(due=at, sent=sent, awaits=PASSED)


class Act(NamedTuple):
    """Something to do: ``send`` (``detail`` is the channel), ``refuse`` (the cause), or the ``do`` of a step.

    ``arm`` does nothing: it says which arm of a fork was taken (``detail`` is its number, from 0).
    """

    kind: str
    step: str
    at: int
    detail: str = ""


class Facts(Protocol):
    """What is known about the person at ``now``; nothing of it looks past that instant.

    Whatever a step must know of somebody is asked here, since people of whom the answers are the same are
    moved on together (``together``).
    """

    zone: Zone
    quiet: QuietHours
    limits: Sequence[FrequencyCap]

    def present(self) -> bool:
        """On file, neither closed nor deceased."""
        ...

    def first(self, what: EventFilter, after: int, by: int) -> int | None:
        """When it first happened with ``after < at <= by`` and still stands; ``None`` where it did not."""
        ...

    def happened(self, what: EventFilter, after: int, by: int) -> bool:
        """Whether ``first`` finds anything."""
        ...

    def meets(self, rule: Rule, entered: int) -> bool: ...

    def held_back(self, percent: int) -> bool:
        """Whether they are of the share that gets nothing, for comparison."""
        ...

    def arm(self, step: str, shares: Sequence[int]) -> int:
        """The arm drawn for them at a step, by the ``shares`` of 100."""
        ...

    def marketing(self, message: int) -> bool: ...

    def refusal(self, message: int, channel: str) -> str | None:
        """The first cause that speaks against writing to them on the channel, in the settled order."""
        ...

    def sent_times(self) -> Sequence[int]:
        """When they got marketing messages lately, ascending."""
        ...

    def did(self, step: str, did: str) -> bool:
        """Whether they did it with the message of that step of this sequence."""
        ...


@dataclass(slots=True)
class Walk:
    """The position while it is walked on, part by part."""

    tree: "Tree"
    facts: Facts
    now: int
    entered: int
    due: int
    here: str | None
    anchor: int
    settled: bool
    tried: int | None
    sent: tuple[str, ...]
    state: str
    cause: str | None
    awaits: str
    acts: list[Act] = field(default_factory=list)

    def position(self) -> Position:
        return Position(
            self.entered,
            self.due,
            self.here,
            self.anchor,
            self.settled,
            self.tried,
            self.sent,
            self.state,
            self.cause,
            self.awaits,
        )


def go(walk: Walk, to: str | None, at: int) -> None:
    walk.here, walk.due, walk.settled, walk.tried, walk.awaits = to, at, False, None, ""


def hold(walk: Walk, until: int, tried: int | None = None) -> None:
    walk.due, walk.settled, walk.tried = until, True, tried


def refuse(walk: Walk, node: "Node", cause: str, at: int) -> None:
    walk.acts.append(Act("refuse", node.step.id, at, cause))
    go(walk, node.after, at)


def leave(walk: Walk, cause: str) -> None:
    """Out of the sequence: what would follow leans on what they did not get."""
    walk.state, walk.cause = LEFT, cause


def take(walk: Walk, node: "Node", arm: int) -> None:
    walk.acts.append(Act("arm", node.step.id, walk.due, str(arm)))
    go(walk, node.arms[arm], walk.due)


def act(walk: Walk, node: "Node") -> None:
    """What is to be done, and on."""
    walk.acts.append(Act(node.step.do, node.step.id, walk.due))
    go(walk, node.after, walk.due)
