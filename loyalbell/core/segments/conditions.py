"""What can be asked of somebody, one condition a class; all of them may be denied."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from loyalbell.core.segments.periods import MOST_DAYS, Ever, Part, Period

Comparison = Literal["at least", "at most", "exactly"]
Amount = Annotated[int, Field(ge=0, le=10**12)]
Channel = Literal["email", "text", "chat"]
ShortText = Annotated[str, Field(min_length=1, max_length=200)]


class OrdersCondition(Part):
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


class ItemsCondition(Part):
    """What somebody bought: orders that hold it (count), units (quantity), money (sum), or days ago (first, last)."""

    about: Literal["items"] = "items"
    measure: Literal["count", "quantity", "sum", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    item: int | None = None
    category: ShortText | None = None
    department: int | None = None
    period: Period = Ever()


class VisitsCondition(Part):
    """Visits: kept appointments, walk-ins, orders in person; two on one day at one place are one."""

    about: Literal["visits"] = "visits"
    measure: Literal["count", "first", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    department: int | None = None
    location: int | None = None
    period: Period = Ever()


class AppointmentsCondition(Part):
    """Appointments in a state. Those ahead are booked and begin within ``ahead`` days, or at any time where it is 0."""

    about: Literal["appointments"] = "appointments"
    state: Literal["booked", "kept", "cancelled", "missed", "ahead"] = "ahead"
    comparison: Comparison = "at least"
    value: Amount = 1
    ahead: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None
    item: int | None = None
    period: Period = Ever()


class EventsCondition(Part):
    """Events of a kind, where a property has a value (as text) if one is named."""

    about: Literal["events"] = "events"
    kind: ShortText
    property: ShortText | None = None
    holds: Annotated[str, Field(max_length=200)] = ""
    measure: Literal["count", "last"] = "count"
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class MessagesCondition(Part):
    """Messages somebody got, or what they did with them, counted by message."""

    about: Literal["messages"] = "messages"
    act: Literal["received", "opened", "clicked", "replied", "refused"] = "received"
    channel: Channel | None = None
    message: int | None = None
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class AnswersCondition(Part):
    """Reviews and answers with a score, as a share of the best in per cent, from ``low`` to ``high``."""

    about: Literal["answers"] = "answers"
    kind: Literal["review", "survey", "any"] = "any"
    low: int = Field(default=0, ge=0, le=100)
    high: int = Field(default=100, ge=0, le=100)
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


class ReachCondition(Part):
    """Whether somebody can be reached: has an address, agreed, is not suppressed."""

    about: Literal["reach"] = "reach"
    channel: Channel = "email"
    can: bool = True


class ConsentCondition(Part):
    """What somebody said last about a channel."""

    about: Literal["consent"] = "consent"
    channel: Channel = "email"
    state: Literal["agreed", "waiting", "refused", "never asked"] = "agreed"


class TagCondition(Part):
    about: Literal["tag"] = "tag"
    tag: int
    has: bool = True


class FieldCondition(Part):
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


class DateCondition(Part):
    """A day that comes round every year: ``birthday``, a companion's birthday, or a named one.

    ``in days``: exactly that many days ahead; ``days ago``; ``within``: today or in the next days;
    ``month``: 1 to 12.
    """

    about: Literal["date"] = "date"
    which: ShortText = "birthday"
    comparison: Literal["in days", "days ago", "within", "month", "is known", "is not known"] = "in days"
    value: int = Field(default=0, ge=0, le=365)


class MembershipCondition(Part):
    """A membership that runs, by plan and term; ``renews in`` compares the days until it renews."""

    about: Literal["membership"] = "membership"
    state: Literal["runs", "has ended", "renews in", "none"] = "runs"
    plan: ShortText | None = None
    term: Literal["yearly", "quarterly", "monthly", "weekly", "once"] | None = None
    comparison: Comparison = "exactly"
    days: int = Field(default=3, ge=0, le=MOST_DAYS)


class BandCondition(Part):
    """The rhythm somebody is in, by all orders or those of a department."""

    about: Literal["band"] = "band"
    bands: tuple[Literal["new", "in rhythm", "late", "quiet", "silent"], ...] = Field(
        min_length=1, default=("late",)
    )
    department: int | None = None


class OffersCondition(Part):
    """Codes of offers: held now (``days`` more than 0: ending within so many days), given, used, or run out unused.

    For the last three ``days`` counts back, 0 for ever.
    """

    about: Literal["offers"] = "offers"
    state: Literal["hold", "were given", "used", "let run out"] = "hold"
    offer: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


class SequencesCondition(Part):
    """Sequences: on their way through one now, came in, came to the end, left early, or were held back from one.

    For all but the first ``days`` counts back, 0 for ever.
    """

    about: Literal["sequences"] = "sequences"
    state: Literal["under way", "came in", "finished", "left", "held back"] = "under way"
    sequence: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


class GapCondition(Part):
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


class TopCondition(Part):
    """Among the top ``percent`` of buyers by money; ``days`` back, or ever where it is 0."""

    about: Literal["top"] = "top"
    percent: float = Field(default=20, gt=0, le=100)
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None


Score = Annotated[int, Field(ge=1, le=5)]


class ScoresCondition(Part):
    """Recency and frequency scores from 1 to 5, 5 best, as pairs of which one must hold."""

    about: Literal["scores"] = "scores"
    cells: tuple[tuple[Score, Score], ...] = Field(min_length=1, max_length=25)


class PersonCondition(Part):
    """Something on file about the person. ``since``: days since they became a customer, ``value`` as a number."""

    about: Literal["person"] = "person"
    fact: Literal[
        "city", "region", "postal_code", "language", "first_name", "last_name", "since", "email", "phone"
    ]
    comparison: Literal[
        "is", "is not", "begins with", "at least", "at most", "exactly", "is known", "is not known"
    ] = "is known"
    value: Annotated[str, Field(max_length=200)] = ""


class SegmentCondition(Part):
    """In another segment, or not."""

    about: Literal["segment"] = "segment"
    segment: int
    within: bool = True


class PeopleCondition(Part):
    """A fixed list of people, by their ids."""

    about: Literal["people"] = "people"
    ids: tuple[int, ...] = Field(max_length=1_000_000)
