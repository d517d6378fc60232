"""Stops contacting them on the channels: suppressed until a person lifts it."""

from typing import TYPE_CHECKING, Literal

from pydantic import Field

from loyalbell.core.channels import CHANNELS, Channel
from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Pick, StepType
from loyalbell.core.sequences.walk import Act, Walk, go
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node


class StopContactStep(StepBase):
    """Stops contacting them on the channels: suppressed until a person lifts it."""

    do: Literal["stop contact"] = "stop contact"
    channels: tuple[Channel, ...] = Field(default=CHANNELS, min_length=1)


def _say(step: StopContactStep, names: Names) -> str:
    return f"Stop contacting them by {', '.join(step.channels)}"


def _run(walk: Walk, node: "Node") -> None:
    """Only whoever got the message before it, the goodbye, is taken off.

    Whose message was withheld, failed or came back has not been asked whether they want to stay.
    """
    asked = node.last_message
    if asked is None or asked in walk.sent:
        walk.acts.append(Act(node.step.do, node.step.id, walk.due))
    go(walk, node.after, walk.due)


STEP = StepType(
    StopContactStep,
    "no more contact",
    _say,
    run=_run,
    sentence=("Stop contacting them by", Pick("channels", "On which channels", "no channel", "channels")),
)
