"""Tells other programs, through the webhooks of the shop."""

from typing import Annotated, Literal

from pydantic import Field

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Pick, StepType
from loyalbell.core.sequences.wording import Names


class HookStep(StepBase):
    """Tells other programs, through the webhooks of the shop."""

    do: Literal["hook"] = "hook"
    name: Annotated[str, Field(max_length=80)] = ""


def _say(step: HookStep, names: Names) -> str:
    return f"Tell other programs{f': {step.name}' if step.name else ''}"


STEP = StepType(
    HookStep,
    "a note to other programs",
    _say,
    sentence=("Tell other programs", Pick("name", "Name of the note", "under a name")),
)
