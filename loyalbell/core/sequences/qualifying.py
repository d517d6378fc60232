"""When somebody who came into a sequence first could have got anything from it.

From then on people who get messages and people held back are compared: until then nothing was done for
either, and whoever left before (they ordered) was never meant. Pure.
"""

from loyalbell.core.policy.assignment import arm_of
from loyalbell.core.sequences.plan_tree import Node, Tree
from loyalbell.core.sequences.steps.random_split import RandomSplitStep
from loyalbell.core.sequences.steps.wait import WaitStep


def seconds_for_everybody(tree: Tree) -> int | None:
    """The same as ``seconds_until_anything`` where no lot decides it; else ``None``."""
    here, waited = tree.nodes.get(tree.first or ""), 0.0
    while here is not None and isinstance(here.step, WaitStep) and here.step.kind == "for":
        waited += here.step.span.seconds
        here = tree.nodes.get(here.after or "")
    return None if here is not None and isinstance(here.step, RandomSplitStep) else round(waited)


def seconds_until_anything(tree: Tree, key: str, person_id: int) -> int:
    """Seconds of fixed waits on the way that is drawn for somebody, up to the first step that does more."""
    here, waited = tree.nodes.get(tree.first or ""), 0.0
    while here is not None:
        after = _passed(here, key, person_id)
        if after is None:
            break
        waited += after[1]
        here = tree.nodes.get(after[0] or "")
    return round(waited)


def _passed(node: Node, key: str, person_id: int) -> tuple[str | None, float] | None:
    """The step after one that only waits or parts by lot, with the seconds it takes; else ``None``."""
    step = node.step
    if isinstance(step, WaitStep) and step.kind == "for":
        return node.after, step.span.seconds
    if isinstance(step, RandomSplitStep):
        return node.arms[arm_of(key, person_id, step.id, [arm.share for arm in step.arms])], 0.0
    return None
