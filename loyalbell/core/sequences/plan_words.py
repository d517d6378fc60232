"""A plan in plain words."""

from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.steps import TYPES
from loyalbell.core.sequences.wording import Names, say_clock, say_event_filter


def say_start(start: p.Start, names: Names) -> str:
    if isinstance(start, p.OnEvent):
        return f"Starts with {say_event_filter(start.event_filter, names)}"
    if isinstance(start, p.OnInactivity):
        return (
            f"Starts {start} after {say_event_filter(start.event_filter, names)}, if nothing"
            " like it happened since"
        )
    if isinstance(start, p.OnDate):
        return f"Starts {say_offset(start.days)} {say_date(start.which)} at {say_clock(start.at)}"
    if isinstance(start, p.OnSegment):
        who = say_rule(start.rule, names.saying).removeprefix("Customers who ").removeprefix("Customers ")
        when = {
            "joins": "for people who newly",
            "leaves": "for people who no longer",
            "is in": "for people who",
        }[start.way]
        return f"Starts each day at {say_clock(start.at)} {when} {who}"
    return "Starts when you add people by hand"


def say_offset(days: int) -> str:
    if not days:
        return "on"
    count = f"{abs(days)} day{'s' if abs(days) != 1 else ''}"
    return f"{count} {'before' if days < 0 else 'after'}"


def say_date(which: str) -> str:
    known = {
        "birthday": "their birthday",
        "companion": "a companion’s birthday",
        "renewal": "the day their membership renews",
        "appointment": "an appointment",
    }
    return known.get(
        which,
        (
            f"the birthday of their {which.partition(':')[2]}"
            if which.startswith("companion:")
            else f"their “{which}”"
        ),
    )


def say_step(step: p.AnyStep, names: Names) -> str:
    return TYPES[type(step)].say(step, names)


def say_reentry(again: p.ReentryPolicy) -> str:
    if again.kind == "never":
        return "Each person only once"
    if again.kind == "each":
        return "Once for each of them"
    return f"The same person again after {again.days} days at the earliest"


def say_exits(plan: p.Plan, names: Names) -> str:
    said = [say_event_filter(exit_event, names) for exit_event in plan.exit_events]
    if plan.exit_condition is not None:
        said.append("meeting “" + say_rule(plan.exit_condition, names.saying) + "”")
    return f"{' or '.join(said)} ends it (checked before each message)" if said else "Nothing ends it early"
