"""Whether somebody who crosses the start line comes in."""

from collections.abc import Sequence
from typing import Literal

from loyalbell.core.clock.zones import DAY
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.triggers import TriggerHit
from loyalbell.core.sequences.walk import Facts, Position

Out = Literal["closed", "came in before", "came in lately", "not meant"]
HELD_BACK = "held back"
OUT_WORDS: dict[str, str] = {
    "closed": "closed or deceased",
    "came in before": "was in it before",
    "came in lately": "was in it too recently",
    "not meant": "does not meet the condition",
    HELD_BACK: "held back, for comparison",
}


def entry_refusal(plan: Plan, hit: TriggerHit, before: Sequence[int], facts: Facts) -> Out | None:
    """``before``: when the same person came into this sequence earlier, ascending, held back or not."""
    if not facts.present():
        return "closed"
    if before and plan.again.kind == "never":
        return "came in before"
    if before and plan.again.kind == "after" and hit.at < before[-1] + plan.again.days * DAY:
        return "came in lately"
    if plan.only is not None and not facts.meets(plan.only, hit.at):
        return "not meant"
    return None


def come_in(tree: Tree, hit: TriggerHit, before: list[int], facts: Facts) -> Out | Position:
    """Why somebody who crosses does not come in, or where they stand then; noted in ``before``."""
    why = entry_refusal(tree.plan, hit, before, facts)
    if why is not None:
        return why
    before.append(hit.at)
    return first_position(tree, hit, facts)


def first_position(tree: Tree, hit: TriggerHit, facts: Facts) -> Position:
    """Where somebody stands who has just come in; in the held-back group they are done at once."""
    if facts.held_back(tree.plan.held_back):
        return Position(hit.at, hit.at, None, hit.anchor, state=HELD_BACK)
    return Position(hit.at, hit.at, tree.first, hit.anchor)
