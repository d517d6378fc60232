"""A plan made ready to walk: for each step by its identity, what comes after it and after each of its
arms.
"""

from dataclasses import dataclass, field

from loyalbell.core.sequences.plan import AnyStep, MessageStep, Plan, WaitStep, lists_of


@dataclass(frozen=True, slots=True)
class Node:
    """``after`` is the step that follows, past the end of an arm too; ``arms`` the first step of each arm.

    ``last_message`` is the nearest message that everyone who stands here has come past, ``None`` where there
    is none.
    """

    step: AnyStep
    after: str | None
    arms: tuple[str | None, ...]
    last_message: str | None


@dataclass(frozen=True)
class Tree:
    """``wakes``: whether any wait can be ended early by something that happens."""

    plan: Plan
    first: str | None
    nodes: dict[str, Node] = field(default_factory=dict)
    wakes: bool = False

    def path_to(self, step_id: str) -> list[tuple[AnyStep, float]]:
        """Every step that everybody comes past on the way to a step, and that one last, each with the seconds
        of fixed waits before it. A fork takes as long as its longest arm.
        """
        return _path(self.plan.steps, step_id, 0.0) or []


def _path(steps: tuple[AnyStep, ...], target: str, waited: float) -> list[tuple[AnyStep, float]] | None:
    passed: list[tuple[AnyStep, float]] = []
    for step in steps:
        if step.id == target:
            return [*passed, (step, waited)]
        for inner in lists_of(step):
            within = _path(inner, target, waited)
            if within is not None:
                return passed + within
        passed.append((step, waited))
        waited += _longest(step)
    return None


def _longest(step: AnyStep) -> float:
    """Seconds of fixed waits that a step takes."""
    if isinstance(step, WaitStep):
        return step.span.seconds if step.kind == "for" else 0.0
    return max((sum(_longest(one) for one in inner) for inner in lists_of(step)), default=0.0)


def tree_of(plan: Plan) -> Tree:
    nodes: dict[str, Node] = {}

    def lay(steps: tuple[AnyStep, ...], then: str | None, message: str | None) -> str | None:
        """Lays out a list whose end leads to ``then``; returns its first step."""
        for at, step in enumerate(steps):
            after = steps[at + 1].id if at + 1 < len(steps) else then
            arms = tuple(lay(inner, after, message) for inner in lists_of(step))
            nodes[step.id] = Node(step, after, arms, message)
            if isinstance(step, MessageStep):
                message = step.id
        return steps[0].id if steps else then

    first = lay(plan.steps, None, None)
    wakes = any(
        isinstance(node.step, WaitStep) and node.step.kind == "until event" for node in nodes.values()
    )
    return Tree(plan, first, nodes, wakes)
