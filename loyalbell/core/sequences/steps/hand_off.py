"""Adds them to a named list for other tools, to be downloaded."""

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Findings, Pick, StepType, Surroundings
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Tree


class HandOffStep(StepBase):
    """Adds them to a named list for other tools, to be downloaded."""

    do: Literal["hand off"] = "hand off"
    list: Annotated[str, Field(max_length=80)] = ""


def _say(step: HandOffStep, names: Names) -> str:
    return f"Add them to the hand-off list “{step.list or '…'}”"


def _check(step: HandOffStep, tree: "Tree", around: Surroundings) -> Findings:
    if not step.list.strip():
        yield "must fix", "Give the list a name."


STEP = StepType(
    HandOffStep,
    "a hand-off list",
    _say,
    _check,
    sentence=("Add them to the hand-off list", Pick("list", "Name of the list", "name it")),
)
