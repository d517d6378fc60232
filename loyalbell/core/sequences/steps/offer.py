"""Gives a code of an offer without a message."""

from typing import TYPE_CHECKING, Literal

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Findings, Pick, StepType, Surroundings
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Tree


class OfferStep(StepBase):
    """Gives a code of an offer without a message."""

    do: Literal["offer"] = "offer"
    offer: int | None = None


def _say(step: OfferStep, names: Names) -> str:
    return f"Give a code of {names.offers.get(step.offer or 0, 'an offer still to be chosen')}"


def _check(step: OfferStep, tree: "Tree", around: Surroundings) -> Findings:
    if step.offer not in around.offers:
        yield "must fix", "No offer is chosen." if step.offer is None else "Its offer can no longer be given."


STEP = StepType(
    OfferStep,
    "a code of an offer",
    _say,
    _check,
    sentence=("Give a code of", Pick("offer", "Which offer", "choose an offer", "offers")),
)
