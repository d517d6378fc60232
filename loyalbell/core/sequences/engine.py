"""One person, one instant: where they stand in a sequence afterwards, and what is to be done.

Pure: the live engine and the rehearsal call the same function. Instants are whole seconds since 1970.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any, NamedTuple, Protocol

from loyalbell.core.clock.durations import after
from loyalbell.core.clock.send_windows import NO_QUIET, QuietHours, SendWindow, opens, seconds_of
from loyalbell.core.clock.zones import DAY, Zone, day_number
from loyalbell.core.policy.send_policy import FrequencyCap, next_allowed
from loyalbell.core.policy.timing import LATE, opens_or_holds
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.assignment import arm_of
from loyalbell.core.sequences.plan import (
    AnyStep,
    Arm,
    EndStep,
    EventFilter,
    ForkStep,
    MessageStep,
    Plan,
    RandomSplitStep,
    StopContactStep,
    WaitStep,
)
from loyalbell.core.sequences.plan_tree import Node, Tree

WHOLE_DAYS = ("days", "weeks", "months")
UNDER_WAY, FINISHED, LEFT = "under way", "finished", "left"


class Position(NamedTuple):
    """Where somebody stands.

    ``due`` is when the step is looked at again; ``settled`` whether ``due`` is of this step already, or when
    they arrived at it. ``tried`` is when its message might first have gone, or when they came to a wait.
    ``anchor`` is the instant that the event or date which brought them in is about. ``sent`` are the steps
    whose message they got, the newest last.
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


class Act(NamedTuple):
    """Something to do: ``send`` (``detail`` is the channel), ``refuse`` (the cause), or the ``do`` of a step.

    ``arm`` does nothing: it says which arm of a fork was taken (``detail`` is its number, from 0).
    """

    kind: str
    step: str
    at: int
    detail: str = ""


class Facts(Protocol):
    """What is known about the person at ``now``; nothing of it looks past that instant."""

    key: str
    person_id: int
    zone: Zone
    quiet: QuietHours
    limits: Sequence[FrequencyCap]

    def present(self) -> bool:
        """On file, neither closed nor deceased."""
        ...

    def first(self, what: EventFilter, after: int, by: int) -> int | None:
        """When it first happened with ``after < at <= by`` and still stands; ``None`` where it did not."""
        ...

    def meets(self, rule: Rule, entered: int) -> bool: ...

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
class _Walk:
    """The position while it is walked on, part by part."""

    tree: Tree
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
    acts: list[Act] = field(default_factory=list)
    own: list[int] = field(default_factory=list)

    def sent_times(self) -> Sequence[int]:
        """With those of this very walk, which no book knows of yet."""
        return [*self.facts.sent_times(), *self.own] if self.own else self.facts.sent_times()

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
        )


def step(tree: Tree, position: Position, facts: Facts, now: int) -> tuple[Position, list[Act]]:
    """Goes on until something must be waited for or the end is reached.

    Each step is acted on at most once.
    """
    if position.state != UNDER_WAY or position.due > now:
        return position, []
    why = _stopped(tree.plan, position, facts, now)
    if why is not None:
        return Position(*position[:7], LEFT, why), []
    walk = _Walk(tree, facts, now, *position)
    while walk.state == UNDER_WAY and walk.due <= now:
        node = tree.nodes.get(walk.here or "")
        if node is None:
            walk.here, walk.state = None, FINISHED
            break
        _DO.get(type(node.step), _act)(walk, node)
    return walk.position(), walk.acts


def _stopped(plan: Plan, position: Position, facts: Facts, now: int) -> str | None:
    if not facts.present():
        return "closed"
    for what in plan.exit_events:
        if facts.first(what, position.entered, now) is not None:
            return f"stop: {what.what}"
    if plan.exit_condition is not None and facts.meets(plan.exit_condition, position.entered):
        return "stop rule"
    if plan.keep_to_it and plan.only is not None and not facts.meets(plan.only, position.entered):
        return "no longer meant"
    return None


def _go(walk: _Walk, to: str | None, at: int) -> None:
    walk.here, walk.due, walk.settled, walk.tried = to, at, False, None


def _hold(walk: _Walk, until: int, tried: int | None = None) -> None:
    walk.due, walk.settled, walk.tried = until, True, tried


def _wait(walk: _Walk, node: Node) -> None:
    assert isinstance(node.step, WaitStep)
    if walk.settled:
        return _go(walk, node.after, walk.due)
    then = walk.tree.nodes.get(node.after or "")
    decides = then is not None and has_its_own_time(then.step)
    until = wait_until(node.step, walk.due, walk.anchor, walk.facts.zone, decides)
    if node.step.kind == "until event":
        event_rows = walk.facts.first(node.step.event_filter, walk.due, min(walk.now, until))
        until = until if event_rows is None else event_rows
    return _hold(walk, max(until, walk.due), walk.due)


def has_its_own_time(step: AnyStep) -> bool:
    """Whether a step says at which time of the day it is done: an exact time, or a window."""
    if isinstance(step, MessageStep):
        return step.release.kind != "at once"
    return isinstance(step, WaitStep) and step.kind == "until time"


def wait_until(wait: WaitStep, arrived: int, anchor: int, zone: Zone, next_decides: bool = False) -> int:
    """When the wait is over at the latest, for somebody who came to it at ``arrived``.

    Whole days before a step that has its own time (``next_decides``) end as their last local day begins, and
    that step decides: in on Wednesday at 9:00, *2 days later at 7:55* is Friday at 7:55 (rules of the job,
    section 1). See ``Position`` for the anchor.
    """
    if wait.kind in ("for", "until event"):
        over = after(arrived, wait.span, zone)
        in_days = wait.kind == "for" and wait.span.unit in WHOLE_DAYS and wait.span.amount
        return zone.instant(zone.day(over), 0) if next_decides and in_days else over
    if wait.kind == "until time":
        exact = SendWindow(kind="exact", weekdays=wait.weekdays, begins=wait.at)
        found = opens(arrived, exact, NO_QUIET, zone)
        return arrived if found is None else found
    if wait.kind == "until date":
        return _on_day(wait, zone) if wait.day else arrived
    back = round(wait.span.seconds)
    if wait.span.unit in ("days", "weeks"):
        day, second = zone.local(anchor)
        return zone.instant(day - back // DAY, second)
    return anchor - back


def _on_day(wait: WaitStep, zone: Zone) -> int:
    return zone.instant(day_number(date.fromisoformat(wait.day)), seconds_of(wait.at))


def _message(walk: _Walk, node: Node) -> None:
    """The refusals in their settled order; stop rules were asked at the beginning."""
    assert isinstance(node.step, MessageStep)
    message, facts, due = node.step.message, walk.facts, walk.due
    if message is None:
        return _refuse(walk, node, "no message", due)
    late = walk.now - due > LATE
    marketing = facts.marketing(message)
    quiet = facts.quiet if marketing else NO_QUIET
    opening = opens_or_holds if late else opens
    at = opening(walk.now if late else due, node.step.release, quiet, facts.zone)
    if at is None:
        return _refuse(walk, node, "never opens", due)
    tried = due if walk.tried is None and late else at if walk.tried is None else walk.tried
    last = tried + walk.tree.plan.patience * DAY
    if late and at > last:
        return _refuse(walk, node, "too late", due)
    if at > walk.now:
        return _hold(walk, at, tried if late else walk.tried)
    channel, cause = _open_channel(facts, message, node.step.channels)
    if channel is None:
        return _refuse(walk, node, cause, due)
    allowed = next_allowed(walk.sent_times(), facts.limits, at) if marketing and facts.limits else at
    if allowed > at:
        again = opens(allowed, node.step.release, quiet, facts.zone)
        if again is None or again > last:
            return _refuse(walk, node, "contact limit", due)
        return _hold(walk, again, tried)
    walk.acts.append(Act("send", node.step.id, at, channel))
    walk.sent = (*walk.sent, node.step.id)
    if marketing:
        walk.own.append(at)
    return _go(walk, node.after, due if late else at)


def _open_channel(facts: Facts, message: int, channels: Sequence[str]) -> tuple[str | None, str]:
    """The first channel against which nothing speaks.

    Where there is none, what speaks against the first of all.
    """
    first = ""
    for channel in channels:
        cause = facts.refusal(message, channel)
        if cause is None:
            return channel, ""
        first = first or cause
    return None, first


def _refuse(walk: _Walk, node: Node, cause: str, at: int) -> None:
    walk.acts.append(Act("refuse", node.step.id, at, cause))
    _go(walk, node.after, at)


def _fork(walk: _Walk, node: Node) -> None:
    assert isinstance(node.step, ForkStep)
    fitting = (at for at, arm in enumerate(node.step.arms) if _fits(walk, arm))
    _take(walk, node, next(fitting, len(node.step.arms)))


def _take(walk: _Walk, node: Node, arm: int) -> None:
    walk.acts.append(Act("arm", node.step.id, walk.due, str(arm)))
    _go(walk, node.arms[arm], walk.due)


def _fits(walk: _Walk, arm: Arm) -> bool:
    sent = walk.sent
    if arm.rule is not None:
        met = walk.facts.meets(arm.rule, walk.entered)
    else:
        about = arm.step or (sent[-1] if sent else None)
        got = about is not None and about in sent
        met = got and (arm.did == "got" or walk.facts.did(str(about), str(arm.did)))
    return met is not arm.denied


def _random_split(walk: _Walk, node: Node) -> None:
    assert isinstance(node.step, RandomSplitStep)
    shares = [arm.share for arm in node.step.arms]
    _take(walk, node, arm_of(walk.facts.key, walk.facts.person_id, node.step.id, shares))


def _end(walk: _Walk, node: Node) -> None:
    walk.state = FINISHED


def _stop_contact(walk: _Walk, node: Node) -> None:
    """Only whoever got the message before it, the goodbye, is taken off.

    Whose message was withheld, failed or came back has not been asked whether they want to stay.
    """
    asked = node.last_message
    if asked is None or asked in walk.sent:
        walk.acts.append(Act(node.step.do, node.step.id, walk.due))
    _go(walk, node.after, walk.due)


def _act(walk: _Walk, node: Node) -> None:
    walk.acts.append(Act(node.step.do, node.step.id, walk.due))
    _go(walk, node.after, walk.due)


_DO: dict[Any, Callable[[_Walk, Node], None]] = {
    WaitStep: _wait,
    MessageStep: _message,
    ForkStep: _fork,
    RandomSplitStep: _random_split,
    EndStep: _end,
    StopContactStep: _stop_contact,
}
