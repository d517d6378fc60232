"""Puts a note for the staff on Today."""

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Findings, Pick, StepType, Surroundings
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Tree


class NotifyStaffStep(StepBase):
    """Puts a note for the staff on Today."""

    do: Literal["tell"] = "tell"
    words: Annotated[str, Field(max_length=300)] = ""


def _say(step: NotifyStaffStep, names: Names) -> str:
    return f"Tell the staff: {step.words or '…'}"


def _check(step: NotifyStaffStep, tree: "Tree", around: Surroundings) -> Findings:
    if not step.words.strip():
        yield "must fix", "Say what the staff should be told."


STEP = StepType(
    NotifyStaffStep,
    "a note for the staff",
    _say,
    _check,
    sentence=("Tell the staff:", Pick("words", "What the staff should do", "say what")),
)
