"""The rule of a segment: a tree of groups and conditions, kept as versioned JSON."""

from datetime import date
from itertools import pairwise
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag, ValidationError, model_validator

from loyalbell.core.rhythm.bands import BANDS

RULE_VERSION = 1
MAX_LINES = 200
MAX_DEPTH = 8
MOST_DAYS = 36_500


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Ever(_Part):
    kind: Literal["ever"] = "ever"


class LastDays(_Part):
    """The last ``days`` calendar days in the shop's zone, today being the first of them."""

    kind: Literal["last days"] = "last days"
    days: int = Field(ge=1, le=MOST_DAYS)


class BeforeLastDays(_Part):
    """Everything earlier than the last ``days`` calendar days."""

    kind: Literal["before last days"] = "before last days"
    days: int = Field(ge=1, le=MOST_DAYS)


class BetweenDaysAgo(_Part):
    """From ``most`` to ``least`` calendar days ago, both included; today is 0 days ago."""

    kind: Literal["between days ago"] = "between days ago"
    least: int = Field(ge=0, le=MOST_DAYS)
    most: int = Field(ge=0, le=MOST_DAYS)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.most < self.least:
            raise ValueError("the period ends before it starts")
        return self


class BetweenDates(_Part):
    """From the first to the last of two local days, both included."""

    kind: Literal["between dates"] = "between dates"
    first: date
    last: date

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last < self.first:
            raise ValueError("the period ends before it starts")
        return self


class AfterJoining(_Part):
    """The first ``days`` x 24 hours after each person became a customer."""

    kind: Literal["after joining"] = "after joining"
    days: int = Field(ge=1, le=MOST_DAYS)


class SinceEntering(_Part):
    """Since somebody came into the sequence that asks; anywhere else it holds nothing."""

    kind: Literal["since entering"] = "since entering"


Period = Annotated[
    Ever | LastDays | BeforeLastDays | BetweenDaysAgo | BetweenDates | AfterJoining | SinceEntering,
    Field(discriminator="kind"),
]
Comparison = Literal["at least", "at most", "exactly"]
Amount = Annotated[int, Field(ge=0, le=10**12)]
Channel = Literal["email", "text", "chat"]
Words = Annotated[str, Field(min_length=1, max_length=200)]


class OrdersCondition(_Part):
    """How often, for how much, or when somebody ordered.

    ``value`` is orders (count), minor units (sum, average), days (distinct days), or calendar
    days ago (first, last). ``nth`` asks about the n-th order alone; ``least`` leaves out smaller orders.
    """

    about: Literal["orders"] = "orders"
    measure: Literal["count", "sum", "average", "days", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    department: int | None = None
    location: int | None = None
    least: Amount | None = None
    nth: int | None = Field(default=None, ge=1, le=10_000)
    period: Period = Ever()


class ItemsCondition(_Part):
    """What somebody bought: orders that hold it (count), units (quantity), money (sum), or days ago (first, last)."""

    about: Literal["items"] = "items"
    measure: Literal["count", "quantity", "sum", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    item: int | None = None
    category: Words | None = None
    department: int | None = None
    period: Period = Ever()


class VisitsCondition(_Part):
    """Visits: kept appointments, walk-ins, orders in person; two on one day at one place are one."""

    about: Literal["visits"] = "visits"
    measure: Literal["count", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    department: int | None = None
    location: int | None = None
    period: Period = Ever()


class AppointmentsCondition(_Part):
    """Appointments in a state. Those ahead are booked and begin within ``ahead`` days, or at any time where it is 0."""

    about: Literal["appointments"] = "appointments"
    state: Literal["booked", "kept", "cancelled", "missed", "ahead"] = "ahead"
    comparison: Comparison = "at least"
    value: Amount = 1
    ahead: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None
    item: int | None = None
    period: Period = Ever()


class EventsCondition(_Part):
    """Events of a kind, where a property has a value (as text) if one is named."""

    about: Literal["events"] = "events"
    kind: Words
    property: Words | None = None
    holds: Annotated[str, Field(max_length=200)] = ""
    measure: Literal["count", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class MessagesCondition(_Part):
    """Messages somebody got, or what they did with them, counted by message."""

    about: Literal["messages"] = "messages"
    act: Literal["received", "opened", "clicked", "replied", "refused"] = "received"
    channel: Channel | None = None
    message: int | None = None
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class AnswersCondition(_Part):
    """Reviews and answers with a score, as a share of the best in per cent, from ``low`` to ``high``."""

    about: Literal["answers"] = "answers"
    kind: Literal["review", "survey", "any"] = "any"
    low: int = Field(default=0, ge=0, le=100)
    high: int = Field(default=100, ge=0, le=100)
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class ReachCondition(_Part):
    """Whether somebody can be reached: has an address, agreed, is not suppressed."""

    about: Literal["reach"] = "reach"
    channel: Channel = "email"
    can: bool = True


class ConsentCondition(_Part):
    """What somebody said last about a channel."""

    about: Literal["consent"] = "consent"
    channel: Channel = "email"
    state: Literal["agreed", "waiting", "refused", "never asked"] = "agreed"


class TagCondition(_Part):
    about: Literal["tag"] = "tag"
    tag: int
    has: bool = True


class FieldCondition(_Part):
    """One of the shop's own fields. ``value`` is a number, a text, a choice, or a day as ISO text; yes is ``yes``.

    A comparison on a field that somebody lacks is false, whichever way it goes.
    """

    about: Literal["field"] = "field"
    field: int
    comparison: Literal[
        "is",
        "is not",
        "at least",
        "at most",
        "contains",
        "in the next days",
        "in the last days",
        "is known",
        "is not known",
    ] = "is known"
    value: Annotated[str, Field(max_length=200)] = ""


class DateCondition(_Part):
    """A day that comes round every year: ``birthday``, a companion's birthday, or a named one.

    ``in days``: exactly that many days ahead; ``days ago``; ``within``: today or in the next days;
    ``month``: 1 to 12.
    """

    about: Literal["date"] = "date"
    which: Words = "birthday"
    comparison: Literal["in days", "days ago", "within", "month", "is known", "is not known"] = "in days"
    value: int = Field(default=0, ge=0, le=365)


class MembershipCondition(_Part):
    """A membership that runs, by plan and term; ``renews in`` compares the days until it renews."""

    about: Literal["membership"] = "membership"
    state: Literal["runs", "has ended", "renews in", "none"] = "runs"
    plan: Words | None = None
    term: Literal["yearly", "quarterly", "monthly", "weekly", "once"] | None = None
    comparison: Comparison = "exactly"
    days: int = Field(default=3, ge=0, le=MOST_DAYS)


class BandCondition(_Part):
    """The rhythm somebody is in, by all orders or those of a department."""

    about: Literal["band"] = "band"
    bands: tuple[Literal["new", "in rhythm", "late", "quiet", "silent"], ...] = Field(
        min_length=1, default=("late",)
    )
    department: int | None = None


class OffersCondition(_Part):
    """Codes of offers: held now (``days`` more than 0: ending within so many days), given, used, or run out unused.

    For the last three ``days`` counts back, 0 for ever.
    """

    about: Literal["offers"] = "offers"
    state: Literal["hold", "were given", "used", "let run out"] = "hold"
    offer: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


class SequencesCondition(_Part):
    """Sequences: on their way through one now, came in, came to the end, left early, or were held back from one.

    For all but the first ``days`` counts back, 0 for ever.
    """

    about: Literal["sequences"] = "sequences"
    state: Literal["under way", "came in", "finished", "left", "held back"] = "under way"
    sequence: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


class GapCondition(_Part):
    """The usual gap in days between somebody's own visits or orders: the median, counted where there are ``fewest`` or more."""

    about: Literal["gap"] = "gap"
    what: Literal["orders", "visits"] = "orders"
    low: int = Field(default=35, ge=1, le=MOST_DAYS)
    high: int = Field(default=49, ge=1, le=MOST_DAYS)
    fewest: int = Field(default=3, ge=2, le=1_000)
    department: int | None = None

    @model_validator(mode="after")
    def _in_order(self) -> "GapCondition":
        if self.high < self.low:
            raise ValueError("the longest gap is shorter than the shortest")
        return self


class TopCondition(_Part):
    """Among the top ``percent`` of buyers by money; ``days`` back, or ever where it is 0."""

    about: Literal["top"] = "top"
    percent: float = Field(default=20, gt=0, le=100)
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None


Score = Annotated[int, Field(ge=1, le=5)]


class ScoresCondition(_Part):
    """Recency and frequency scores from 1 to 5, 5 best, as pairs of which one must hold."""

    about: Literal["scores"] = "scores"
    cells: tuple[tuple[Score, Score], ...] = Field(min_length=1, max_length=25)


class PersonCondition(_Part):
    """Something on file about the person. ``since``: days since they became a customer, ``value`` as a number."""

    about: Literal["person"] = "person"
    fact: Literal[
        "city", "region", "postal_code", "language", "first_name", "last_name", "since", "email", "phone"
    ]
    comparison: Literal[
        "is", "is not", "begins with", "at least", "at most", "exactly", "is known", "is not known"
    ] = "is known"
    value: Annotated[str, Field(max_length=200)] = ""


class SegmentCondition(_Part):
    """In another segment, or not."""

    about: Literal["segment"] = "segment"
    segment: int
    within: bool = True


class PeopleCondition(_Part):
    """A fixed list of people, by their ids."""

    about: Literal["people"] = "people"
    ids: tuple[int, ...] = Field(max_length=1_000_000)


Condition = Annotated[
    OrdersCondition
    | ItemsCondition
    | VisitsCondition
    | AppointmentsCondition
    | EventsCondition
    | MessagesCondition
    | AnswersCondition
    | ReachCondition
    | ConsentCondition
    | TagCondition
    | FieldCondition
    | DateCondition
    | MembershipCondition
    | BandCondition
    | GapCondition
    | OffersCondition
    | SequencesCondition
    | TopCondition
    | ScoresCondition
    | PersonCondition
    | SegmentCondition
    | PeopleCondition,
    Field(discriminator="about"),
]


def _is(line: Any) -> str:
    """A line with “about” is a condition; any other is a group."""
    about = line.get("about") if isinstance(line, dict) else getattr(line, "about", None)
    return "group" if about is None else "condition"


class Group(_Part):
    """Lines of which all, any or none must hold. A group may hold groups."""

    match: Literal["all", "any", "none"] = "all"
    lines: list[
        Annotated[
            Annotated["Group", Tag("group")] | Annotated[Condition, Tag("condition")], Discriminator(_is)
        ]
    ] = Field(default_factory=list, max_length=MAX_LINES)


class Rule(_Part):
    version: Literal[1] = 1
    root: Group = Group()


assert set(BANDS) == {"new", "in rhythm", "late", "quiet", "silent"}


class RuleProblem(ValueError):
    """A rule that cannot be read, said in a sentence that names the line."""


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
    "root", "lines", "condition", "group", "period", "ever", "last days", "before last days", "between days ago",
    "between dates", "after joining", "since entering",
)  # fmt: skip


def _say_error(error: Any) -> str:
    words = str(error["msg"]).removeprefix("Value error, ")
    name = str(error["loc"][-1]) if error["loc"] else ""
    if name in UNSAID or name.isdigit():
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
