"""What is wrong with a plan, each mistake a sentence with the place it is about."""

from collections.abc import Iterator
from dataclasses import dataclass

from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.steps import TYPES
from loyalbell.core.sequences.steps.base import Level, Surroundings


@dataclass(frozen=True)
class Mistake:
    """``place`` is a step's identity, or ``start``, ``stops``, ``again``; the page leads there."""

    level: Level
    words: str
    place: str


def check(plan: p.Plan, around: Surroundings) -> list[Mistake]:
    """Everything that is wrong, what must be fixed first."""
    tree = tree_of(plan)
    found = [*_whole(plan, around), *_exits(plan), *_reentry(plan)]
    for step in p.every_step(plan.steps):
        found += [
            Mistake(level, words, step.id) for level, words in TYPES[type(step)].check(step, tree, around)
        ]
    found += _pile_up(plan, around)
    return sorted(found, key=lambda one: one.level != "must fix")


def must_fix(mistakes: list[Mistake]) -> bool:
    return any(mistake.level == "must fix" for mistake in mistakes)


def _whole(plan: p.Plan, around: Surroundings) -> Iterator[Mistake]:
    if not plan.steps:
        yield Mistake("must fix", "There are no steps yet. Add a message.", "start")
    elif not any(isinstance(one, p.MessageStep) for one in p.every_step(plan.steps)):
        yield Mistake("look at this", "No step sends a message.", "start")
    if isinstance(plan.start, p.OnSegment) and not plan.start.rule.root.lines:
        yield Mistake("must fix", "Choose the segment.", "start")
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
            words = "Opening or clicking its own message would start it again for the same person."
            yield Mistake("look at this", words, step.id)


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
