"""The rule of a segment: a tree of groups and conditions, kept as versioned JSON."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

RULE_VERSION = 1
MAX_LINES = 200


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Ever(_Part):
    kind: Literal["ever"] = "ever"


class LastDays(_Part):
    """The last ``days`` calendar days in the shop's zone, today being the first of them."""

    kind: Literal["last days"] = "last days"
    days: int = Field(ge=1, le=36500)


class BeforeLastDays(_Part):
    """Everything earlier than the last ``days`` calendar days."""

    kind: Literal["before last days"] = "before last days"
    days: int = Field(ge=1, le=36500)


Period = Annotated[Ever | LastDays | BeforeLastDays, Field(discriminator="kind")]
Comparison = Literal["at least", "at most", "exactly"]


class OrdersCondition(_Part):
    """How often, or for how much, somebody ordered. ``value`` is orders or minor units."""

    about: Literal["orders"] = "orders"
    measure: Literal["count", "sum"] = "count"
    comparison: Comparison = "at least"
    value: int = Field(default=1, ge=0, le=10**12)
    department: int | None = None
    period: Period = Ever()


class ReachCondition(_Part):
    """Whether somebody can be reached: has an address, agreed, is not suppressed."""

    about: Literal["reach"] = "reach"
    channel: Literal["email", "text", "chat"] = "email"
    can: bool = True


Condition = Annotated[OrdersCondition | ReachCondition, Field(discriminator="about")]


class Group(_Part):
    """Lines of which all, any or none must hold. A group may hold groups."""

    match: Literal["all", "any", "none"] = "all"
    lines: list["Group | Condition"] = Field(default_factory=list, max_length=MAX_LINES)


class Rule(_Part):
    version: Literal[1] = 1
    root: Group = Group()


class RuleProblem(ValueError):
    """A rule that cannot be read, said in a sentence that names the line."""


def read_rule(data: Any) -> Rule:
    """The rule in JSON data. Raises ``RuleProblem``."""
    version = data.get("version") if isinstance(data, dict) else None
    if isinstance(version, int) and version > RULE_VERSION:
        raise RuleProblem(
            f"This rule has version {version}; this program reads up to {RULE_VERSION}. "
            "Open it with a newer Loyal Bell."
        )
    try:
        return Rule.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        place = _say_place(first["loc"])
        raise RuleProblem(f"{place}: {first['msg'].lower()}.") from error


def _say_place(loc: tuple[int | str, ...]) -> str:
    lines = [str(part + 1) for part in loc if isinstance(part, int)]
    return f"Line {'.'.join(lines)}" if lines else "The rule"
