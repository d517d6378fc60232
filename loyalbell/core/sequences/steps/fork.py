"""The way by what holds: the first arm that fits, else the others' steps."""

from typing import TYPE_CHECKING, Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from loyalbell.core.segments.model import Rule
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.sequences.plan_part import PlanPart, StepBase, StepId
from loyalbell.core.sequences.steps.base import Findings, StepType, Surroundings
from loyalbell.core.sequences.walk import Walk, take
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree
    from loyalbell.core.sequences.steps import Step

Did = Literal["got", "opened", "clicked", "replied"]


class Arm(PlanPart):
    """The way of those who meet ``rule``, or who did (or did not) ``did`` with the message of the step
    ``step``.

    Without a step it is the last message before the fork.
    """

    name: Annotated[str, Field(max_length=60)] = ""
    rule: Rule | None = None
    did: Did | None = None
    step: StepId | None = None
    denied: bool = False
    steps: tuple["Step", ...] = ()

    @model_validator(mode="after")
    def _one_test(self) -> Self:
        if (self.rule is None) == (self.did is None):
            raise ValueError("an arm asks either for a rule or for what they did with a message")
        return self


class ForkStep(StepBase):
    """The first arm that fits; the ``otherwise`` steps where none does."""

    do: Literal["fork"] = "fork"
    arms: tuple[Arm, ...] = Field(min_length=1, max_length=8)
    otherwise: tuple["Step", ...] = ()


def _say(step: ForkStep, names: Names) -> str:
    return "Split by rule"


def say_arm(arm: Arm, names: Names, steps: dict[str, str]) -> str:
    """``steps``: the names of messages by step identity."""
    if arm.rule is not None:
        who = (
            say_rule(arm.rule, names.saying).removeprefix("Customers ")
            if arm.rule.root.lines
            else "everybody"
        )
        return f"{'none of those ' if arm.denied else ''}{who}"
    about = f"“{steps.get(arm.step, 'a removed step')}”" if arm.step else "the last message"
    did = {"got": "got", "opened": "opened", "clicked": "clicked a link in", "replied": "replied to"}[
        str(arm.did)
    ]
    if arm.denied:
        did = {
            "got": "did not get",
            "opened": "did not open",
            "clicked": "did not click a link in",
            "replied": "did not reply to",
        }[str(arm.did)]
    return f"who {did} {about}"


def _check(step: ForkStep, tree: "Tree", around: Surroundings) -> Findings:
    seen: list[Any] = []
    for number, arm in enumerate(step.arms, 1):
        test = (arm.rule, arm.did, arm.step, arm.denied)
        if test in seen:
            yield "must fix", f"Nobody reaches arm {number}: an arm above asks the same."
        seen.append(test)
        if arm.rule is not None and not arm.rule.root.lines:
            last = number < len(step.arms)
            yield (
                "must fix",
                f"Arm {number} asks for nothing, so everyone takes it."
                + (" The arms below are never reached." if last else ""),
            )
        if arm.did is not None:
            about = arm.step or tree.nodes[step.id].last_message
            if about is None or about not in tree.nodes:
                yield (
                    "must fix",
                    f"Arm {number} asks what people did with a message, but no message comes before it.",
                )
            elif tree.nodes[step.id].last_message is None:
                yield "look at this", f"Arm {number} asks about a message that some have not got."
        if (
            (None, arm.did, arm.step, not arm.denied) in seen[:-1]
            and arm.did is not None
            and number < len(step.arms)
        ):
            yield (
                "must fix",
                f"The arms below arm {number} are never reached: it takes everyone who is left.",
            )


def _run(walk: Walk, node: "Node") -> None:
    assert isinstance(node.step, ForkStep)
    fitting = (at for at, arm in enumerate(node.step.arms) if _fits(walk, arm))
    take(walk, node, next(fitting, len(node.step.arms)))


def _fits(walk: Walk, arm: Arm) -> bool:
    sent = walk.sent
    if arm.rule is not None:
        met = walk.facts.meets(arm.rule, walk.entered)
    else:
        about = arm.step or (sent[-1] if sent else None)
        got = about is not None and about in sent
        met = got and (arm.did == "got" or walk.facts.did(str(about), str(arm.did)))
    return met is not arm.denied


STEP = StepType(
    ForkStep,
    "a fork: the way by what holds",
    _say,
    _check,
    _run,
    {"arms": [{"did": "clicked", "steps": []}], "otherwise": []},
)
