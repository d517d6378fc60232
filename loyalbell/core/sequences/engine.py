"""One person, one instant: where they stand in a sequence afterwards, and what is to be done.

Pure: the live engine and the rehearsal call the same function. Instants are whole seconds since 1970.
"""

from collections.abc import Callable

from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.plan import Plan, WaitStep
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.steps import TYPES
from loyalbell.core.sequences.walk import FINISHED, LEFT, ON_ITS_WAY, UNDER_WAY, Act, Facts, Position, Walk

First = Callable[[EventFilter, int, int], int | None]


def step(
    tree: Tree, position: Position, facts: Facts, now: int, asked: bool = False
) -> tuple[Position, list[Act]]:
    """Goes on until something must be waited for or the end is reached.

    Each step is acted on at most once. Whoever's message is on its way stands there until it has left
    (``past_message``). ``asked``: at this very instant it has been asked whether what customers do ends it.
    """
    if position.state != UNDER_WAY or position.awaits == ON_ITS_WAY or position.due > now:
        return position, []
    why = stopped(tree.plan, position.entered, facts, now, asked)
    if why is not None:
        return Position(*position[:7], LEFT, why), []
    walk = Walk(tree, facts, now, *position)
    while walk.state == UNDER_WAY and walk.awaits != ON_ITS_WAY and walk.due <= now:
        node = tree.nodes.get(walk.here or "")
        if node is None:
            walk.here, walk.state = None, FINISHED
            break
        TYPES[type(node.step)].run(walk, node)
    return walk.position(), walk.acts


def stopped(plan: Plan, entered: int, facts: Facts, now: int, asked: bool) -> str | None:
    """What ends the sequence for somebody who came in at ``entered``, if anything does.

    Where it has been ``asked`` what customers do, rules are asked even so: they may see the message that has
    just left.
    """
    if not asked:
        if not facts.present():
            return "closed"
        for what in plan.exit_events:
            if facts.happened(what, entered, now):
                return f"stop: {what.what}"
    if plan.exit_condition is not None and facts.meets(plan.exit_condition, entered):
        return "stop rule"
    if plan.keep_to_it and plan.only is not None and not facts.meets(plan.only, entered):
        return "no longer meant"
    return None


def woken(tree: Tree, position: Position, first: First, after: int, by: int) -> Position:
    """A position that waits for something, woken at the instant at which that happened after ``after``, by
    ``by``.

    ``first`` says when something first happened between two instants.
    """
    node = tree.nodes.get(position.step or "")
    waits = node.step if node is not None else None
    if isinstance(waits, WaitStep) and waits.kind == "until event" and position.settled:
        event_rows = first(waits.event_filter, after, min(by, position.due))
        if event_rows is not None:
            return position._replace(due=event_rows)
    return position


def woken_since(tree: Tree, position: Position, first: First) -> Position:
    """The same for somebody who is under way already: by what has happened since they came to the wait."""
    arrived = position.entered if position.tried is None else position.tried
    return woken(tree, position, first, arrived, position.due)
