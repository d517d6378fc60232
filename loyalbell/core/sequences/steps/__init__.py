"""Everything that a sequence can do, a file for each step.

This is the only place that lists them.
"""

from typing import Annotated

from pydantic import Field

from loyalbell.core.sequences.steps import (
    bring,
    end,
    fork,
    hand_off,
    hook,
    message,
    notify_staff,
    offer,
    random_split,
    set,
    stop_contact,
    wait,
)
from loyalbell.core.sequences.steps.base import StepType
from loyalbell.core.sequences.steps.bring import BringStep
from loyalbell.core.sequences.steps.end import EndStep
from loyalbell.core.sequences.steps.fork import ForkStep
from loyalbell.core.sequences.steps.hand_off import HandOffStep
from loyalbell.core.sequences.steps.hook import HookStep
from loyalbell.core.sequences.steps.message import MessageStep
from loyalbell.core.sequences.steps.notify_staff import NotifyStaffStep
from loyalbell.core.sequences.steps.offer import OfferStep
from loyalbell.core.sequences.steps.random_split import RandomSplitStep
from loyalbell.core.sequences.steps.set import SetStep
from loyalbell.core.sequences.steps.stop_contact import StopContactStep
from loyalbell.core.sequences.steps.wait import WaitStep

__all__ = [
    "BY_DO",
    "TYPES",
    "AnyStep",
    "BringStep",
    "EndStep",
    "ForkStep",
    "HandOffStep",
    "HookStep",
    "MessageStep",
    "NotifyStaffStep",
    "OfferStep",
    "RandomSplitStep",
    "SetStep",
    "Step",
    "StepType",
    "StopContactStep",
    "WaitStep",
]
AnyStep = (
    MessageStep
    | WaitStep
    | ForkStep
    | RandomSplitStep
    | OfferStep
    | SetStep
    | NotifyStaffStep
    | HandOffStep
    | BringStep
    | HookStep
    | StopContactStep
    | EndStep
)
Step = Annotated[AnyStep, Field(discriminator="do")]
TYPES: dict[type, StepType] = {
    made.model: made
    for made in (
        message.STEP,
        wait.STEP,
        fork.STEP,
        random_split.STEP,
        offer.STEP,
        set.STEP,
        notify_staff.STEP,
        hand_off.STEP,
        bring.STEP,
        hook.STEP,
        stop_contact.STEP,
        end.STEP,
    )
}
"""In the order in which they are offered."""
BY_DO = {made.do: made for made in TYPES.values()}

_NAMES = {"Step": Step, "Arm": fork.Arm, "RandomArm": random_split.RandomArm}
for _holds_steps in (fork.Arm, ForkStep, random_split.RandomArm, RandomSplitStep):
    _holds_steps.model_rebuild(_types_namespace=_NAMES)
