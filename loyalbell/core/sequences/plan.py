"""The plan of a sequence: a tree of steps, kept as versioned JSON."""

from collections.abc import Iterator
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from loyalbell.core.clock.durations import Span
from loyalbell.core.clock.send_windows import AT_ONCE, ClockTime, SendWindow, Weekdays
from loyalbell.core.segments.model import Amount, Channel, Rule, ShortText
from loyalbell.core.validation_errors import say_error

PLAN_VERSION = 1
MOST_STEPS = 200
StepId = Annotated[str, Field(pattern=r"^[a-z0-9]{1,16}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, serialize_by_alias=True)


What = Literal[
    "order",
    "order confirmed",
    "order shipped",
    "order delivered",
    "order cancelled",
    "visit",
    "booking",
    "appointment kept",
    "appointment missed",
    "appointment cancelled",
    "membership",
    "tag",
    "event",
    "answer",
    "opened",
    "clicked",
    "replied",
]
"""Things that can happen to a person.

``visit`` is a kept appointment, a walk-in or an order in person; ``booking`` an appointment made;
``membership`` one begun; the last three are what they did with any message of ours.
"""


class EventFilter(_Part):
    """Something that happens, and to which of its kind it is narrowed.

    For orders: holding any of the ``items`` or ``categories``, of any of the ``departments``, of at least
    ``least`` minor units; ``nth``: only a person's n-th order, counted over all that fit. ``others``: only
    orders that hold nothing which another live sequence names. ``tag`` and ``event`` say which; ``low`` to
    ``high`` is the score of an answer in per cent of its best.
    """

    what: What = "order"
    items: tuple[int, ...] = ()
    categories: tuple[ShortText, ...] = ()
    departments: tuple[int, ...] = ()
    least: Amount | None = None
    nth: int | None = Field(default=None, ge=1, le=10_000)
    others: bool = False
    tag: int | None = None
    event: ShortText | None = None
    low: int = Field(default=0, ge=0, le=100)
    high: int = Field(default=100, ge=0, le=100)

    @model_validator(mode="after")
    def _complete(self) -> Self:
        if self.what == "tag" and self.tag is None:
            raise ValueError("say which tag")
        if self.what == "event" and self.event is None:
            raise ValueError("say which event")
        return self


class OnEvent(_Part):
    """When something happens."""

    on: Literal["event"] = "event"
    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")


class OnSegment(_Part):
    """Looked at once a day: who has joined the segment since the day before, has left it, or is in it."""

    on: Literal["segment"] = "segment"
    rule: Rule = Rule()
    way: Literal["joins", "leaves", "is in"] = "joins"
    at: ClockTime = "09:00"


class OnDate(_Part):
    """``days`` after a date (before it, where negative): ``birthday``, ``companion`` for any companion's,
    ``renewal`` of a membership, ``appointment``, or the name of a yearly date of theirs.
    """

    on: Literal["date"] = "date"
    which: ShortText = "birthday"
    days: int = Field(default=0, ge=-365, le=365)
    at: ClockTime = "09:00"


class OnInactivity(_Part):
    """``days`` local days after something happened last."""

    on: Literal["lack"] = "lack"
    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")
    days: int = Field(default=60, ge=1, le=3_650)
    at: ClockTime = "09:00"


class ByHand(_Part):
    """By a person, a bulk act, another sequence or another program."""

    on: Literal["hand"] = "hand"


Start = Annotated[OnEvent | OnSegment | OnDate | OnInactivity | ByHand, Field(discriminator="on")]


class ReentryPolicy(_Part):
    """Whether somebody may come in again: never, ``days`` after they came in last, or once for each event or
    date.
    """

    kind: Literal["never", "after", "each"] = "never"
    days: int = Field(default=365, ge=1, le=3_650)


class _Step(_Part):
    id: StepId


class MessageStep(_Step):
    """A message on the first of the ``channels`` that nothing speaks against, when ``release`` lets it go."""

    do: Literal["message"] = "message"
    message: int | None = None
    channels: tuple[Channel, ...] = Field(default=("email",), min_length=1, max_length=3)
    release: SendWindow = AT_ONCE


class WaitStep(_Step):
    """Passes time.

    ``for``: a duration. ``until time``: the next ``at`` on one of the ``weekdays``. ``until date``: ``at`` on
    ``day`` (ISO). ``until event``: something happens, at most ``span`` long. ``until near``: ``span`` before
    the date that brought them in.
    """

    do: Literal["wait"] = "wait"
    kind: Literal["for", "until time", "until date", "until event", "until near"] = "for"
    span: Span = Span(amount=3)
    weekdays: Weekdays = (0, 1, 2, 3, 4, 5, 6)
    at: ClockTime = "09:00"
    day: Annotated[str, Field(pattern=r"^(\d{4}-\d{2}-\d{2})?$")] = ""
    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")


Did = Literal["got", "opened", "clicked", "replied"]


class Arm(_Part):
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


class ForkStep(_Step):
    """The first arm that fits; the ``otherwise`` steps where none does."""

    do: Literal["fork"] = "fork"
    arms: tuple[Arm, ...] = Field(min_length=1, max_length=8)
    otherwise: tuple["Step", ...] = ()


class RandomArm(_Part):
    """An arm drawn by lot, with its share of 100."""

    name: Annotated[str, Field(max_length=60)] = ""
    share: int = Field(default=50, ge=0, le=100)
    steps: tuple["Step", ...] = ()


class RandomSplitStep(_Step):
    """A random fork: each person's arm is drawn once and stays."""

    do: Literal["lot"] = "lot"
    arms: tuple[RandomArm, ...] = Field(min_length=2, max_length=8)

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if sum(arm.share for arm in self.arms) != 100:
            raise ValueError("the shares of its arms must come to 100 %")
        return self


class OfferStep(_Step):
    """Gives a code of an offer without a message."""

    do: Literal["offer"] = "offer"
    offer: int | None = None


class SetStep(_Step):
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


class NotifyStaffStep(_Step):
    """Puts a note for the staff on Today."""

    do: Literal["tell"] = "tell"
    words: Annotated[str, Field(max_length=300)] = ""


class HookStep(_Step):
    """Tells other programs, through the webhooks of the shop."""

    do: Literal["hook"] = "hook"
    name: Annotated[str, Field(max_length=80)] = ""


class HandOffStep(_Step):
    """Adds them to a named list for other tools, to be downloaded."""

    do: Literal["hand off"] = "hand off"
    list: Annotated[str, Field(max_length=80)] = ""


class BringStep(_Step):
    """Brings them into another sequence as well."""

    do: Literal["bring"] = "bring"
    sequence: int | None = None


class StopContactStep(_Step):
    """Stops contacting them on the channels: suppressed until a person lifts it."""

    do: Literal["stop contact"] = "stop contact"
    channels: tuple[Channel, ...] = Field(default=("email", "text", "chat"), min_length=1)


class EndStep(_Step):
    """Ends the sequence for whoever comes here."""

    do: Literal["end"] = "end"


Step = Annotated[
    MessageStep
    | WaitStep
    | ForkStep
    | RandomSplitStep
    | OfferStep
    | SetStep
    | NotifyStaffStep
    | HookStep
    | HandOffStep
    | BringStep
    | StopContactStep
    | EndStep,
    Field(discriminator="do"),
]


class Goal(_Part):
    """What the sequence is for, and the share in per cent of those who got a message that should do it within
    ``days``.
    """

    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")
    days: int = Field(default=30, ge=1, le=365)
    share: int = Field(default=15, ge=1, le=100)


class Plan(_Part):
    """A sequence. ``only``: who may come in. ``keep_to_it``: that is asked again before every message.

    ``exit_events`` and ``exit_condition`` end it early, checked before every message. ``held_back`` is the
    share in per cent that qualifies and gets nothing. ``patience``: days for which a limit may put a message
    off before it is skipped.
    """

    version: Literal[1] = 1
    start: Start = OnEvent()
    only: Rule | None = None
    keep_to_it: bool = False
    again: ReentryPolicy = ReentryPolicy()
    exit_events: tuple[EventFilter, ...] = Field(default=(), max_length=12, alias="stops")
    exit_condition: Rule | None = Field(default=None, alias="stop_when")
    goal: Goal | None = None
    held_back: int = Field(default=0, ge=0, le=50)
    patience: int = Field(default=3, ge=0, le=30)
    steps: tuple[Step, ...] = ()

    @model_validator(mode="after")
    def _lasting_identities(self) -> Self:
        ids = [one.id for one in every_step(self.steps)]
        if len(ids) > MOST_STEPS:
            raise ValueError(f"a sequence has at most {MOST_STEPS} steps")
        if len(set(ids)) != len(ids):
            raise ValueError("two steps have the same identity")
        return self


class PlanProblem(ValueError):
    """A plan that cannot be read, in words."""


AnyStep = (
    MessageStep
    | WaitStep
    | ForkStep
    | RandomSplitStep
    | OfferStep
    | SetStep
    | NotifyStaffStep
    | HookStep
    | HandOffStep
    | BringStep
    | StopContactStep
    | EndStep
)


def lists_of(step: AnyStep) -> list[tuple[AnyStep, ...]]:
    """The lists of steps that a fork holds, arm by arm; none for any other step."""
    if isinstance(step, ForkStep):
        return [*(arm.steps for arm in step.arms), step.otherwise]
    return [arm.steps for arm in step.arms] if isinstance(step, RandomSplitStep) else []


def every_step(steps: tuple[AnyStep, ...]) -> Iterator[AnyStep]:
    """All steps in the order in which they are read, those within forks too."""
    for step in steps:
        yield step
        for inner in lists_of(step):
            yield from every_step(inner)


def read_plan(data: Any) -> Plan:
    """The plan in JSON data. Raises ``PlanProblem``."""
    if not isinstance(data, dict):
        raise PlanProblem("A sequence is a JSON object with “version”, “start” and “steps”.")
    version = data.get("version")
    if isinstance(version, int) and version > PLAN_VERSION:
        raise PlanProblem(
            f"This sequence has version {version}; this program reads up to {PLAN_VERSION}. "
            "Open it with a newer Loyal Bell."
        )
    try:
        return Plan.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        places = [str(part + 1) for part in first["loc"] if isinstance(part, int)]
        where = f"Step {'.'.join(places)}" if "steps" in first["loc"] and places else "The sequence"
        raise PlanProblem(f"{where}: {say_error(first)}.") from error


def plan_or_none(data: Any) -> Plan | None:
    """The plan in JSON data; ``None`` where there is none, or none that can be read."""
    try:
        return read_plan(data)
    except PlanProblem:
        return None
