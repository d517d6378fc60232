"""Appointments booked, kept, cancelled, missed or ahead."""

from typing import Literal

from pydantic import Field

from loyalbell.core.history.snapshot import APPOINTMENT_STATES, BOOKED
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import Measured, compared, measured_fact
from loyalbell.core.segments.conditions.wording import (
    Saying,
    join,
    say_named,
    say_times,
    say_when,
    says_never,
)
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Ever, Part, Period


class AppointmentsCondition(Part):
    """Appointments in a state.

    Those ahead are booked and begin within ``ahead`` days, or at any time where it is 0.
    """

    about: Literal["appointments"] = "appointments"
    state: Literal["booked", "kept", "cancelled", "missed", "ahead"] = "ahead"
    comparison: Comparison = "at least"
    value: Amount = 1
    ahead: int = Field(default=0, ge=0, le=MOST_DAYS)
    department: int | None = None
    item: int | None = None
    period: Period = Ever()


def measure(line: AppointmentsCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.appointments
    state = part.state(context.now)
    if line.state == "ahead":
        kept = (state == BOOKED) & (part.at > context.now)
        if line.ahead:
            kept &= local_days(part.at, context.snapshot.zone) <= context.today + line.ahead
    else:
        low, high = context.span(line.period)
        kept = (state == APPOINTMENT_STATES.index(line.state)) & (part.at >= low) & (part.at <= high)
    if line.department is not None:
        kept &= part.department == line.department
    if line.item is not None:
        kept &= part.item == line.item
    return Measured(context.snapshot.per_person(part.person[kept]))


def say(line: AppointmentsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = join(
        say_named(saying.catalogue.departments, line.department, "in"), say_named(names, line.item, "for")
    )
    never = says_never(line)
    if line.state == "ahead":
        when = f"within {line.ahead} days" if line.ahead else "ahead"
        if never:
            return join("have nothing booked", what, when)
        return join(
            "have",
            "an appointment" if line.value == 1 else f"{line.comparison} {line.value} appointments",
            what,
            when,
        )
    verb = {
        "booked": "have open",
        "kept": "have kept",
        "cancelled": "have cancelled",
        "missed": "have missed",
    }[line.state]
    if never:
        return join(verb.replace("have", "have not"), "an appointment", what, say_when(line))
    return join(verb, "an appointment", what, f"{line.comparison} {say_times(line.value)}", say_when(line))


CONDITION = ConditionType(
    AppointmentsCondition, compared(measure), say, fact=measured_fact(measure), rows="appointment"
)
