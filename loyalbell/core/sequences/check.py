"""What is wrong with a plan, each mistake a sentence with the place it is about."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from loyalbell.core.clock.send_windows import QuietHours, open_hours
from loyalbell.core.clock.zones import DAY
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.plan_tree import Tree, tree_of

Level = Literal["must fix", "look at this"]
MANY_WITHOUT = 0.2
"""Share of people without an agreed text above which a text alone is worth a look."""


@dataclass(frozen=True)
class Mistake:
    """``place`` is a step's identity, or ``start``, ``stops``, ``again``; the page leads there."""

    level: Level
    words: str
    place: str


@dataclass(frozen=True)
class Surroundings:
    """What a plan leans on.

    ``messages``: id to (name, for marketing, what must be fixed in it on each channel).

    ``lacking`` says by channel what it still lacks before anything can be sent on it. ``known_share`` is the
    share of people with the yearly date that starts it; ``agreed`` the share of people who can be reached by
    channel; ``same_event`` the names of live sequences that start on the same event.
    """

    messages: Mapping[int, tuple[str, bool, Mapping[str, tuple[str, ...]]]] = field(default_factory=dict)
    lacking: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    offers: frozenset[int] = frozenset()
    tags: frozenset[int] = frozenset()
    fields: frozenset[int] = frozenset()
    segments: frozenset[int] = frozenset()
    sequences: frozenset[int] = frozenset()
    quiet: QuietHours = QuietHours()
    agreed: Mapping[str, float] = field(default_factory=dict)
    same_event: tuple[str, ...] = ()
    paced: bool = False
    itself: int = 0


def check(plan: p.Plan, around: Surroundings) -> list[Mistake]:
    """Everything that is wrong, what must be fixed first."""
    tree = tree_of(plan)
    found = [*_whole(plan, around), *_exits(plan), *_reentry(plan)]
    for step in p.every_step(plan.steps):
        found += [Mistake(level, words, step.id) for level, words in _STEPS[type(step)](step, tree, around)]
    found += _pile_up(plan, around)
    return sorted(found, key=lambda one: one.level != "must fix")


def must_fix(mistakes: list[Mistake]) -> bool:
    return any(one.level == "must fix" for one in mistakes)


def _whole(plan: p.Plan, around: Surroundings) -> Iterator[Mistake]:
    if not plan.steps:
        yield Mistake("must fix", "There are no steps yet. Add a message.", "start")
    elif not any(isinstance(one, p.MessageStep) for one in p.every_step(plan.steps)):
        yield Mistake("look at this", "No step sends a message.", "start")
    if isinstance(plan.start, p.OnSegment) and not plan.start.rule.root.lines:
        yield Mistake("must fix", "Say which segment brings people in.", "start")
    if isinstance(plan.start, p.OnSegment) and plan.start.way == "is in" and plan.again.kind != "never":
        days = plan.again.days if plan.again.kind == "after" else 0
        if days < 30:
            words = "Everybody in the segment comes in again and again: " + (
                f"every {days} days." if days else "each day."
            )
            yield Mistake("look at this", f"{words} Ask for those who join, or let nobody in twice.", "again")
    for name in around.same_event:
        yield Mistake("look at this", f"“{name}” starts on the same thing; people would get both.", "start")


def _exits(plan: p.Plan) -> Iterator[Mistake]:
    lapsed = isinstance(plan.start, p.OnInactivity) or (
        isinstance(plan.start, p.OnEvent) and plan.start.event_filter.what in ("order", "visit")
    )
    sends = [one for one in p.every_step(plan.steps) if isinstance(one, p.MessageStep)]
    if lapsed and len(sends) > 1 and not plan.exit_events and plan.exit_condition is None:
        words = "Nothing ends it early: people would be reminded after they have come back. Add a stop rule."
        yield Mistake("look at this", words, "stops")


def _reentry(plan: p.Plan) -> Iterator[Mistake]:
    """Coming in again could go round and round where what starts it is what it does."""
    starts = plan.start.event_filter if isinstance(plan.start, p.OnEvent) else None
    if starts is None or plan.again.kind == "never":
        return
    for step in p.every_step(plan.steps):
        if isinstance(step, p.SetStep) and starts.what == "tag" and step.tag == starts.tag and not step.off:
            yield Mistake(
                "must fix", "It puts on the tag that starts it: people would go round for ever.", step.id
            )
        if isinstance(step, p.MessageStep) and starts.what in ("opened", "clicked"):
            words = "What people do with its own message would bring them in again."
            yield Mistake("look at this", words, step.id)


Found = Iterator[tuple[Level, str]]


def _message(step: p.MessageStep, tree: Tree, around: Surroundings) -> Found:
    known = around.messages.get(step.message or 0)
    if known is None:
        yield (
            "must fix",
            "No message is chosen." if step.message is None else "Its message is no longer on file.",
        )
    else:
        name, marketing, wrong = known
        for channel in step.channels:
            for words in wrong.get(channel, ()):
                yield "must fix", f"“{name}”, {channel}: {words}"
        if all(channel not in wrong for channel in step.channels):
            yield "must fix", f"“{name}” says nothing by {' or '.join(step.channels)}."
        if not _opens(step, around.quiet if marketing else QuietHours()):
            yield "must fix", "Its window never opens: it lies within the quiet hours."
    for channel in step.channels:
        for words in around.lacking.get(channel, ()):
            yield "must fix", words
    if step.channels == ("text",) and around.agreed.get("text", 1.0) < 1 - MANY_WITHOUT:
        share = round(100 * (1 - around.agreed["text"]))
        yield (
            "look at this",
            f"{share} % of people on file cannot be reached by text. Say what they get instead.",
        )


def _opens(step: p.MessageStep, quiet: QuietHours) -> bool:
    return any(open_hours(step.release, quiet.begins, quiet.ends))


def _wait(step: p.WaitStep, tree: Tree, around: Surroundings) -> Found:
    start = tree.plan.start
    if step.kind == "until date" and not step.day:
        yield "must fix", "Say until which day it waits."
    if step.kind == "until near":
        if not (
            isinstance(start, p.OnDate)
            or (isinstance(start, p.OnEvent) and start.event_filter.what == "booking")
        ):
            yield "must fix", "It waits for a date, but no date brings people in."
        elif isinstance(start, p.OnDate) and step.span.seconds > -start.days * DAY:
            yield (
                "must fix",
                f"It waits until {step.span} before the date, but people come in later than that.",
            )
    if step.kind == "for" and isinstance(start, p.OnDate) and start.days < 0:
        passed = _waited_before(tree, step)
        if passed + step.span.seconds > 366 * DAY:
            yield "must fix", "It waits for longer than a year: the next date comes before it is over."


def _waited_before(tree: Tree, step: p.WaitStep) -> float:
    total = 0.0
    for one in p.every_step(tree.plan.steps):
        if one.id == step.id:
            break
        if isinstance(one, p.WaitStep) and one.kind == "for":
            total += one.span.seconds
    return total


def _fork(step: p.ForkStep, tree: Tree, around: Surroundings) -> Found:
    seen: list[Any] = []
    for number, arm in enumerate(step.arms, 1):
        test = (arm.rule, arm.did, arm.step, arm.denied)
        if test in seen:
            yield "must fix", f"Nobody reaches arm {number}: an arm above asks the same."
        seen.append(test)
        if arm.rule is not None and not arm.rule.root.lines:
            last = number < len(step.arms)
            yield (
                "must fix",
                f"Arm {number} asks for nothing, so everybody takes it."
                + (" The arms below are never reached." if last else ""),
            )
        if arm.did is not None:
            about = arm.step or tree.nodes[step.id].last_message
            if about is None or about not in tree.nodes:
                yield (
                    "must fix",
                    f"Arm {number} asks what they did with a message, but none goes out before it.",
                )
            elif tree.nodes[step.id].last_message is None:
                yield "look at this", f"Arm {number} asks about a message that some have not got."
        if (
            (None, arm.did, arm.step, not arm.denied) in seen[:-1]
            and arm.did is not None
            and number < len(step.arms)
        ):
            yield (
                "must fix",
                f"The arms below arm {number} are never reached: it takes everybody who is left.",
            )


def _random_split(step: p.RandomSplitStep, tree: Tree, around: Surroundings) -> Found:
    for number, arm in enumerate(step.arms, 1):
        if arm.share == 0:
            yield "must fix", f"Nobody reaches arm {number}: its share is 0 %."


def _offer(step: p.OfferStep, tree: Tree, around: Surroundings) -> Found:
    if step.offer not in around.offers:
        yield "must fix", "No offer is chosen." if step.offer is None else "Its offer can no longer be given."


def _set(step: p.SetStep, tree: Tree, around: Surroundings) -> Found:
    if step.tag is None and step.field is None:
        yield "must fix", "Say which tag or field it sets."
    elif (step.tag is not None and step.tag not in around.tags) or (
        step.field is not None and step.field not in around.fields
    ):
        yield "must fix", "Its tag or field has been deleted."


def _notify_staff(step: p.NotifyStaffStep, tree: Tree, around: Surroundings) -> Found:
    if not step.words.strip():
        yield "must fix", "Say what the staff should be told."


def _hand_off(step: p.HandOffStep, tree: Tree, around: Surroundings) -> Found:
    if not step.list.strip():
        yield "must fix", "Give the list a name."


def _bring(step: p.BringStep, tree: Tree, around: Surroundings) -> Found:
    if step.sequence is None or step.sequence not in around.sequences:
        yield "must fix", "Choose a sequence that rings."
    elif step.sequence == around.itself:
        yield "must fix", "It brings people into itself: they would go round for ever."


def _nothing(step: Any, tree: Tree, around: Surroundings) -> Found:
    return iter(())


_STEPS: dict[type, Callable[[Any, Tree, Surroundings], Found]] = {
    p.MessageStep: _message,
    p.WaitStep: _wait,
    p.ForkStep: _fork,
    p.RandomSplitStep: _random_split,
    p.OfferStep: _offer,
    p.SetStep: _set,
    p.NotifyStaffStep: _notify_staff,
    p.HandOffStep: _hand_off,
    p.BringStep: _bring,
    p.HookStep: _nothing,
    p.StopContactStep: _nothing,
    p.EndStep: _nothing,
}


def _pile_up(plan: p.Plan, around: Surroundings) -> Iterator[Mistake]:
    """Pacing people in does not help if a later step releases everyone at one exact time."""
    if not around.paced:
        return
    for step in p.every_step(plan.steps):
        exact = isinstance(step, p.MessageStep) and step.release.kind == "exact"
        until = isinstance(step, p.WaitStep) and step.kind in ("until time", "until date")
        if exact or until:
            at = step.release.begins if isinstance(step, p.MessageStep) else getattr(step, "at", "")
            words = (
                f"It lets everyone go at exactly {at}, so the batches that people are let in by pile up"
                " again."
            )
            yield Mistake("look at this", words, step.id)
