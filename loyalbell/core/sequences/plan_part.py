"""What every part of a plan is: frozen, kept as JSON by its alias, refusing what it does not know."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

StepId = Annotated[str, Field(pattern=r"^[a-z0-9]{1,16}$")]


class PlanPart(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, serialize_by_alias=True)


class StepBase(PlanPart):
    """A step. ``id`` survives edits: a person's place is kept in terms of it."""

    id: StepId
