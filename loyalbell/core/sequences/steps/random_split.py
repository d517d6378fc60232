"""The way by lot: each person's arm is drawn once and stays."""

from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import Field, model_validator

from loyalbell.core.sequences.plan_part import PlanPart, StepBase
from loyalbell.core.sequences.steps.base import Findings, StepType, Surroundings
from loyalbell.core.sequences.walk import Walk, take
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree
    from loyalbell.core.sequences.steps import Step


class RandomArm(PlanPart):
    """An arm drawn by lot, with its share of 100."""

    name: Annotated[str, Field(max_length=60)] = ""
    share: int = Field(default=50, ge=0, le=100)
    steps: tuple["Step", ...] = ()


class RandomSplitStep(StepBase):
    """A random fork: each person's arm is drawn once and stays."""

    do: Literal["lot"] = "lot"
    arms: tuple[RandomArm, ...] = Field(min_length=2, max_length=8)

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if sum(arm.share for arm in self.arms) != 100:
            raise ValueError("the shares of its arms must come to 100 %")
        return self


def _say(step: RandomSplitStep, names: Names) -> str:
    return f"Split at random: {' / '.join(f'{arm.share} %' for arm in step.arms)}"


def _check(step: RandomSplitStep, tree: "Tree", around: Surroundings) -> Findings:
    for number, arm in enumerate(step.arms, 1):
        if arm.share == 0:
            yield "must fix", f"Nobody reaches arm {number}: its share is 0 %."


def _run(walk: Walk, node: "Node") -> None:
    assert isinstance(node.step, RandomSplitStep)
    shares = [arm.share for arm in node.step.arms]
    take(walk, node, walk.facts.arm(node.step.id, shares))


STEP = StepType(
    RandomSplitStep,
    "a random split, for a test",
    _say,
    _check,
    _run,
    {"arms": [{"name": "A", "share": 50, "steps": []}, {"name": "B", "share": 50, "steps": []}]},
)
