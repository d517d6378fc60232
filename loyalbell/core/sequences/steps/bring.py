"""Brings them into another sequence as well."""

from typing import TYPE_CHECKING, Literal

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Findings, Pick, StepType, Surroundings
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Tree


class BringStep(StepBase):
    """Brings them into another sequence as well."""

    do: Literal["bring"] = "bring"
    sequence: int | None = None


def _say(step: BringStep, names: Names) -> str:
    name = names.sequences.get(step.sequence or 0, "another sequence, still to be chosen")
    return f"Bring them into {name} as well"


def _check(step: BringStep, tree: "Tree", around: Surroundings) -> Findings:
    if step.sequence is None or step.sequence not in around.sequences:
        yield "must fix", "Choose a sequence that is on."
    elif step.sequence == around.itself:
        yield "must fix", "It starts itself again: people would go round for ever."


STEP = StepType(
    BringStep,
    "another sequence as well",
    _say,
    _check,
    sentence=(
        "Bring them into",
        Pick("sequence", "Which sequence", "choose a sequence", "sequences"),
        "as well",
    ),
)
