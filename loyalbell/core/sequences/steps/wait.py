"""Passes time."""

from datetime import date
from typing import TYPE_CHECKING, Annotated, Literal

import numpy as np
from pydantic import Field

from loyalbell.core.clock.durations import Ints, ManyAfter, Span, after
from loyalbell.core.clock.send_windows import NO_QUIET, ClockTime, SendWindow, Weekdays, opens, seconds_of
from loyalbell.core.clock.zones import DAY, QUARTER, Zone, day_number
from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.starts import OnDate, OnEvent
from loyalbell.core.sequences.steps.base import Findings, StepType, Surroundings
from loyalbell.core.sequences.steps.message import MessageStep
from loyalbell.core.sequences.walk import Walk, go, hold
from loyalbell.core.sequences.wording import Names, say_clock, say_days, say_event_filter

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree

WHOLE_DAYS = ("days", "weeks", "months")


class WaitStep(StepBase):
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


def _say(wait: WaitStep, names: Names) -> str:
    if wait.kind == "for":
        return f"Wait {wait.span}"
    if wait.kind == "until time":
        return f"Wait until {say_days(wait.weekdays)}, {say_clock(wait.at)}"
    if wait.kind == "until date":
        return f"Wait until {wait.day or 'a day to be chosen'}, {say_clock(wait.at)}"
    if wait.kind == "until event":
        return f"Wait until {say_event_filter(wait.event_filter, names)}, {wait.span} at most"
    return f"Wait until {wait.span} before the date"


def _check(step: WaitStep, tree: "Tree", around: Surroundings) -> Findings:
    start = tree.plan.start
    if step.kind == "until date" and not step.day:
        yield "must fix", "Say until which day it waits."
    if step.kind == "until near":
        if not (
            isinstance(start, OnDate) or (isinstance(start, OnEvent) and start.event_filter.what == "booking")
        ):
            yield "must fix", "It waits for a date, but the sequence does not start on one."
        elif isinstance(start, OnDate) and step.span.seconds > -start.days * DAY:
            yield (
                "must fix",
                f"It waits until {step.span} before the date, but people come in later than that.",
            )
    if step.kind == "for" and isinstance(start, OnDate) and start.days < 0:
        passed = tree.path_to(step.id)[-1][1]
        if passed + step.span.seconds > 366 * DAY:
            yield "must fix", "It waits for longer than a year: the next date comes before it is over."


def _run(walk: Walk, node: "Node") -> None:
    assert isinstance(node.step, WaitStep)
    if walk.settled:
        return go(walk, node.after, walk.due)
    then = walk.tree.nodes.get(node.after or "")
    decides = then is not None and has_its_own_time(then.step)
    until = wait_until(node.step, walk.due, walk.anchor, walk.facts.zone, decides)
    if node.step.kind == "until event":
        event_rows = walk.facts.first(node.step.event_filter, walk.due, min(walk.now, until))
        until = until if event_rows is None else event_rows
    return hold(walk, max(until, walk.due), walk.due)


def has_its_own_time(step: StepBase) -> bool:
    """Whether a step says at which time of the day it is done: an exact time, or a window."""
    if isinstance(step, MessageStep):
        return step.release.kind != "at once"
    return isinstance(step, WaitStep) and step.kind == "until time"


def wait_until(wait: WaitStep, arrived: int, anchor: int, zone: Zone, next_decides: bool = False) -> int:
    """When the wait is over at the latest, for somebody who came to it at ``arrived``.

    Whole days before a step that has its own time (``next_decides``) end as their last local day begins, and
    that step decides: in on Wednesday at 9:00, *2 days later at 7:55* is Friday at 7:55 (rules of the job,
    section 1). See ``Position`` for the anchor.
    """
    if wait.kind in ("for", "until event"):
        over = after(arrived, wait.span, zone)
        in_days = wait.kind == "for" and wait.span.unit in WHOLE_DAYS and wait.span.amount
        return zone.instant(zone.day(over), 0) if next_decides and in_days else over
    if wait.kind == "until time":
        exact = SendWindow(kind="exact", weekdays=wait.weekdays, begins=wait.at)
        found = opens(arrived, exact, NO_QUIET, zone)
        return arrived if found is None else found
    if wait.kind == "until date":
        return _on_day(wait, zone) if wait.day else arrived
    back = round(wait.span.seconds)
    if wait.span.unit in ("days", "weeks"):
        day, second = zone.local(anchor)
        return zone.instant(day - back // DAY, second)
    return anchor - back


class ManyWait:
    """``wait_until`` for many people in one zone, of a wait that is a duration (``for``)."""

    def __init__(self, wait: WaitStep, zone: Zone, next_decides: bool) -> None:
        self._after, self._zone = ManyAfter(wait.span, zone), zone
        self._in_days = next_decides and wait.span.unit in WHOLE_DAYS and bool(wait.span.amount)
        self._begins: dict[int, int] = {}

    def __call__(self, arrived: Ints) -> Ints:
        over = self._after(arrived)
        if not self._in_days:
            return over
        quarters, place = np.unique(over // QUARTER, return_inverse=True)
        begins = [self._day_begins(quarter) for quarter in quarters.tolist()]
        return np.asarray(begins, dtype=np.int64)[place]

    def _day_begins(self, quarter: int) -> int:
        """Of the day in which it lies."""
        begins = self._begins.get(quarter)
        if begins is None:
            day = self._zone.day(quarter * QUARTER)
            begins = self._begins[quarter] = self._zone.instant(day, 0)
        return begins


def _on_day(wait: WaitStep, zone: Zone) -> int:
    return zone.instant(day_number(date.fromisoformat(wait.day)), seconds_of(wait.at))


STEP = StepType(
    WaitStep, "a wait", _say, _check, _run, {"kind": "for", "span": {"amount": 3, "unit": "days"}}
)
