"""Over which time a condition looks, counted in local days of the shop."""

from datetime import date
from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

MOST_DAYS = 36_500


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Ever(Part):
    kind: Literal["ever"] = "ever"


class LastDays(Part):
    """The last ``days`` calendar days in the shop's zone, today being the first of them."""

    kind: Literal["last days"] = "last days"
    days: int = Field(ge=1, le=MOST_DAYS)


class BeforeLastDays(Part):
    """Everything earlier than the last ``days`` calendar days."""

    kind: Literal["before last days"] = "before last days"
    days: int = Field(ge=1, le=MOST_DAYS)


class BetweenDaysAgo(Part):
    """From ``most`` to ``least`` calendar days ago, both included; today is 0 days ago."""

    kind: Literal["between days ago"] = "between days ago"
    least: int = Field(ge=0, le=MOST_DAYS)
    most: int = Field(ge=0, le=MOST_DAYS)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.most < self.least:
            raise ValueError("the period ends before it starts")
        return self


class BetweenDates(Part):
    """From the first to the last of two local days, both included."""

    kind: Literal["between dates"] = "between dates"
    first: date
    last: date

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last < self.first:
            raise ValueError("the period ends before it starts")
        return self


class AfterJoining(Part):
    """The first ``days`` x 24 hours after each person became a customer."""

    kind: Literal["after joining"] = "after joining"
    days: int = Field(ge=1, le=MOST_DAYS)


class SinceEntering(Part):
    """Since somebody came into the sequence that asks; anywhere else it holds nothing."""

    kind: Literal["since entering"] = "since entering"


Period = Annotated[
    Ever | LastDays | BeforeLastDays | BetweenDaysAgo | BetweenDates | AfterJoining | SinceEntering,
    Field(discriminator="kind"),
]
