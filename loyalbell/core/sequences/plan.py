"""The plan of a sequence: a tree of steps, kept as versioned JSON."""

from collections.abc import Iterator
from typing import Any, Literal, Self

from pydantic import Field, ValidationError, model_validator

from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.event_filter import EventFilter, What
from loyalbell.core.sequences.plan_part import PlanPart
from loyalbell.core.sequences.starts import ByHand, OnDate, OnEvent, OnInactivity, OnSegment, Start
from loyalbell.core.sequences.steps import (
    AnyStep,
    BringStep,
    EndStep,
    ForkStep,
    HandOffStep,
    HookStep,
    MessageStep,
    NotifyStaffStep,
    OfferStep,
    RandomSplitStep,
    SetStep,
    Step,
    StopContactStep,
    WaitStep,
)
from loyalbell.core.sequences.steps.fork import Arm
from loyalbell.core.sequences.steps.random_split import RandomArm
from loyalbell.core.validation_errors import say_error

__all__ = [
    "AnyStep",
    "Arm",
    "BringStep",
    "ByHand",
    "EndStep",
    "EventFilter",
    "ForkStep",
    "Goal",
    "HandOffStep",
    "HookStep",
    "MessageStep",
    "NotifyStaffStep",
    "OfferStep",
    "OnDate",
    "OnEvent",
    "OnInactivity",
    "OnSegment",
    "Plan",
    "PlanProblem",
    "RandomArm",
    "RandomSplitStep",
    "ReentryPolicy",
    "SetStep",
    "Start",
    "Step",
    "StopContactStep",
    "WaitStep",
    "What",
    "every_step",
    "lists_of",
    "plan_or_none",
    "read_plan",
]
PLAN_VERSION = 1
MOST_STEPS = 200


class ReentryPolicy(PlanPart):
    """Whether somebody may come in again: never, ``days`` after they came in last, or once for each event or
    date.
    """

    kind: Literal["never", "after", "each"] = "never"
    days: int = Field(default=365, ge=1, le=3_650)


class Goal(PlanPart):
    """What the sequence is for, and the share in per cent of those who got a message that should do it within
    ``days``.
    """

    event_filter: EventFilter = Field(default=EventFilter(), alias="happening")
    days: int = Field(default=30, ge=1, le=365)
    share: int = Field(default=15, ge=1, le=100)


class Plan(PlanPart):
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
