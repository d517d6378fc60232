"""Puts a tag on, takes it off, or sets a field of the shop's own."""

from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import Field, model_validator

from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.steps.base import Findings, StepType, Surroundings
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Tree


class SetStep(StepBase):
    """Puts a tag on, takes it off, or sets a field of the shop's own."""

    do: Literal["set"] = "set"
    tag: int | None = None
    off: bool = False
    field: int | None = None
    value: Annotated[str, Field(max_length=200)] = ""

    @model_validator(mode="after")
    def _one(self) -> Self:
        if self.tag is not None and self.field is not None:
            raise ValueError("a step sets a tag or a field, not both")
        return self


def _say(step: SetStep, names: Names) -> str:
    catalogue = names.saying.catalogue
    if step.tag is not None:
        return f"{'Take off' if step.off else 'Put on'} the tag “{catalogue.tags.get(step.tag, 'deleted')}”"
    field_name = catalogue.fields.get(step.field or 0, ("a field still to be chosen", ""))[0]
    return f"Set {field_name} to “{step.value}”" if step.value else f"Empty {field_name}"


def _check(step: SetStep, tree: "Tree", around: Surroundings) -> Findings:
    if step.tag is None and step.field is None:
        yield "must fix", "Say which tag or field it sets."
    elif (step.tag is not None and step.tag not in around.tags) or (
        step.field is not None and step.field not in around.fields
    ):
        yield "must fix", "Its tag or field has been deleted."


STEP = StepType(SetStep, "a tag or a field", _say, _check)
