"""The rule of a segment: a tree of groups and conditions, kept as versioned JSON."""

from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag, ValidationError

from loyalbell.core.segments import conditions
from loyalbell.core.segments.conditions import (
    Amount,
    AnswersCondition,
    AppointmentsCondition,
    BandCondition,
    Comparison,
    ConsentCondition,
    DateCondition,
    EventsCondition,
    FieldCondition,
    GapCondition,
    ItemsCondition,
    MembershipCondition,
    MessagesCondition,
    OffersCondition,
    OrdersCondition,
    PeopleCondition,
    PersonCondition,
    ReachCondition,
    ScoresCondition,
    SegmentCondition,
    SequencesCondition,
    ShortText,
    TagCondition,
    TopCondition,
    VisitsCondition,
)
from loyalbell.core.segments.periods import (
    MOST_DAYS,
    AfterJoining,
    BeforeLastDays,
    BetweenDates,
    BetweenDaysAgo,
    Ever,
    LastDays,
    Part,
    Period,
    SinceEntering,
)
from loyalbell.core.segments.problems import RuleProblem

__all__ = [
    "MAX_DEPTH",
    "MAX_LINES",
    "MOST_DAYS",
    "RULE_VERSION",
    "UNSAID",
    "AfterJoining",
    "Amount",
    "AnswersCondition",
    "AppointmentsCondition",
    "BandCondition",
    "BeforeLastDays",
    "BetweenDates",
    "BetweenDaysAgo",
    "Comparison",
    "Condition",
    "ConsentCondition",
    "DateCondition",
    "EventsCondition",
    "Ever",
    "FieldCondition",
    "GapCondition",
    "Group",
    "ItemsCondition",
    "LastDays",
    "MembershipCondition",
    "MessagesCondition",
    "OffersCondition",
    "OrdersCondition",
    "PeopleCondition",
    "Period",
    "PersonCondition",
    "ReachCondition",
    "Rule",
    "RuleProblem",
    "ScoresCondition",
    "SegmentCondition",
    "SequencesCondition",
    "ShortText",
    "SinceEntering",
    "TagCondition",
    "TopCondition",
    "VisitsCondition",
    "read_rule",
    "segments_in",
]

RULE_VERSION = 1
MAX_LINES = 200
MAX_DEPTH = 8
Condition = Annotated[conditions.Condition, Field(discriminator="about")]


def _is(line: Any) -> str:
    """A line with “about” is a condition; any other is a group."""
    about = line.get("about") if isinstance(line, dict) else getattr(line, "about", None)
    return "group" if about is None else "condition"


class Group(Part):
    """Lines of which all, any or none must hold. A group may hold groups."""

    match: Literal["all", "any", "none"] = "all"
    lines: list[
        Annotated[
            Annotated["Group", Tag("group")] | Annotated[Condition, Tag("condition")], Discriminator(_is)
        ]
    ] = Field(default_factory=list, max_length=MAX_LINES)


class Rule(Part):
    version: Literal[1] = 1
    root: Group = Group()


def read_rule(data: Any) -> Rule:
    """The rule in JSON data. Raises ``RuleProblem``."""
    if not isinstance(data, dict):
        raise RuleProblem("A rule is a JSON object with “version” and “root”.")
    version = data.get("version")
    if isinstance(version, int) and version > RULE_VERSION:
        raise RuleProblem(
            f"This rule has version {version}; this program reads up to {RULE_VERSION}. "
            "Open it with a newer Loyal Bell."
        )
    try:
        rule = Rule.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        raise RuleProblem(f"{_say_place(first['loc'])}: {_say_error(first)}.") from error
    _check_depth(rule.root, 1)
    return rule


def _check_depth(group: Group, depth: int) -> None:
    if depth > MAX_DEPTH:
        raise RuleProblem(f"Groups are nested more than {MAX_DEPTH} deep.")
    for line in group.lines:
        if isinstance(line, Group):
            _check_depth(line, depth + 1)


UNSAID = (
    "root",
    "lines",
    "condition",
    "group",
    "period",
    "ever",
    "last days",
    "before last days",
    "between days ago",
    "between dates",
    "after joining",
    "since entering",
)


def _say_error(error: Any) -> str:
    words = str(error["msg"]).removeprefix("Value error, ")
    name = str(error["loc"][-1]) if error["loc"] else ""
    if name in UNSAID or name.isdecimal():
        name = ""
    if error["type"] == "union_tag_invalid":
        words = "it is of a kind that is not known"
    return f"{name}: {words[:1].lower()}{words[1:]}" if name else f"{words[:1].lower()}{words[1:]}"


def _say_place(loc: tuple[int | str, ...]) -> str:
    lines = [
        str(after + 1) for before, after in pairwise(loc) if before == "lines" and isinstance(after, int)
    ]
    return f"Line {'.'.join(lines)}" if lines else "The rule"


def segments_in(group: Group) -> set[int]:
    """The ids of the segments that a rule leans on directly."""
    found: set[int] = set()
    for line in group.lines:
        if isinstance(line, Group):
            found |= segments_in(line)
        elif isinstance(line, SegmentCondition):
            found.add(line.segment)
    return found
