"""Ends the sequence for whoever comes here."""

from typing import TYPE_CHECKING, Literal

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import StepType
from loyalbell.core.sequences.walk import FINISHED, Walk
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node


class EndStep(StepBase):
    """Ends the sequence for whoever comes here."""

    do: Literal["end"] = "end"


def _say(step: EndStep, names: Names) -> str:
    return "End"


def _run(walk: Walk, node: "Node") -> None:
    walk.state = FINISHED


STEP = StepType(
    EndStep,
    "the end",
    _say,
    run=_run,
    sentence=("End here",),
)
