"""Which sequences can be played for everybody at once."""

from collections.abc import Iterator

from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.plan import OnSegment, Plan, every_step
from loyalbell.core.sequences.simulated_history import ACTS
from loyalbell.core.sequences.steps.fork import ForkStep
from loyalbell.core.sequences.steps.wait import WaitStep

MOST_COUNTED = 16
"""Messages that a limit may look back on: so many instants are kept for each person."""


def suits(plan: Plan, known: SequenceHistory) -> bool:
    """Whether nothing in it asks for what a rehearsal imagines of one person: rules about our own doing, and
    what they do with a message, save as the arm of a fork.
    """
    events = [*plan.exit_events, *_waited_for(plan)]
    if any(event.what in ACTS for event in events):
        return False
    if any(limit.count > MOST_COUNTED for limit in known.policy.limits):
        return False
    return not any(known.nature(rule).of_ours for rule in _rules(plan))


def _waited_for(plan: Plan) -> Iterator[EventFilter]:
    for step in every_step(plan.steps):
        if isinstance(step, WaitStep) and step.kind == "until event":
            yield step.event_filter


def _rules(plan: Plan) -> list[Rule]:
    found = [plan.only, plan.exit_condition]
    if isinstance(plan.start, OnSegment):
        found.append(plan.start.rule)
    for step in every_step(plan.steps):
        if isinstance(step, ForkStep):
            found += [arm.rule for arm in step.arms]
    return [rule for rule in found if rule is not None]
