"""One person, one instant: where they stand in a sequence afterwards, and what is to be done.

Pure: the live engine and the rehearsal call the same function. Instants are whole seconds since 1970.
"""

from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.steps import TYPES
from loyalbell.core.sequences.walk import FINISHED, LEFT, ON_ITS_WAY, UNDER_WAY, Act, Facts, Position, Walk


def step(
    tree: Tree, position: Position, facts: Facts, now: int, asked: bool = False
) -> tuple[Position, list[Act]]:
    """Goes on until something must be waited for or the end is reached.

    Each step is acted on at most once. Whoever's message is on its way stands there until it has left
    (``past_message``). ``asked``: at this very instant it has been asked whether what customers do ends it.
    """
    if position.state != UNDER_WAY or position.awaits == ON_ITS_WAY or position.due > now:
        return position, []
    why = _stopped(tree.plan, position, facts, now, asked)
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


def _stopped(plan: Plan, position: Position, facts: Facts, now: int, asked: bool) -> str | None:
    """Rules are asked even so: they may see the message that has just left."""
    if not asked:
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
