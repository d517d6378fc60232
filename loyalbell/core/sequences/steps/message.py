"""A message on the first channel that nothing speaks against, when its window lets it go."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

from pydantic import Field

from loyalbell.core.channels import Channel
from loyalbell.core.clock.send_windows import AT_ONCE, QuietHours, SendWindow, open_hours
from loyalbell.core.clock.zones import DAY
from loyalbell.core.policy.timing import CONTACT_LIMIT, LATE, TOO_LATE, Attempt, when
from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.starts import end_of_its_day
from loyalbell.core.sequences.steps.base import Findings, StepType, Surroundings
from loyalbell.core.sequences.steps.offer import OfferStep
from loyalbell.core.sequences.walk import ON_ITS_WAY, PASSED, Act, Facts, Walk, go, hold, leave, refuse
from loyalbell.core.sequences.wording import Names, say_channels, say_release

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree

MANY_WITHOUT = 0.2
"""Share of people without an agreed text above which a text alone is worth a look."""


class MessageStep(StepBase):
    """A message on the first of the ``channels`` that nothing speaks against, when ``release`` lets it go."""

    do: Literal["message"] = "message"
    message: int | None = None
    channels: tuple[Channel, ...] = Field(default=("email",), min_length=1, max_length=3)
    release: SendWindow = AT_ONCE


def _say(step: MessageStep, names: Names) -> str:
    name = names.messages.get(step.message or 0, "a message still to be chosen")
    return f"Send {say_channels(step.channels)}: {name}, {say_release(step.release)}"


def _check(step: MessageStep, tree: "Tree", around: Surroundings) -> Findings:
    known = around.messages.get(step.message or 0)
    if known is None:
        yield (
            "must fix",
            "No message is chosen." if step.message is None else "Its message is no longer on file.",
        )
    else:
        name, marketing, wrong = known
        for channel in step.channels:
            for words in wrong.get(channel, ()):
                yield "must fix", f"“{name}”, {channel}: {words}"
        if all(channel not in wrong for channel in step.channels):
            yield "must fix", f"“{name}” says nothing by {' or '.join(step.channels)}."
        if not _opens(step, around.quiet if marketing else QuietHours()):
            yield "must fix", "Its window never opens: it lies within the quiet hours."
    yield from _codes_over(step, tree, around)
    for channel in step.channels:
        for words in around.lacking.get(channel, ()):
            yield "must fix", words
    if step.channels == ("text",) and around.agreed.get("text", 1.0) < 1 - MANY_WITHOUT:
        share = round(100 * (1 - around.agreed["text"]))
        yield (
            "look at this",
            f"{share} % of people on file cannot be reached by text. Say what they get instead.",
        )


def _codes_over(step: MessageStep, tree: "Tree", around: Surroundings) -> Findings:
    """One code a person, offer and run: a later message shows the code that an earlier one gave."""
    path = tree.path_to(step.id)
    for offer, name, holds in around.codes.get(step.message or 0, ()):
        gave = next(waited for passed, waited in path if _gives(passed, offer, around))
        days = (path[-1][1] - gave) / DAY
        if days > holds:
            yield (
                "must fix",
                f"By then the code of “{name}” has ended: it holds {holds} days, and this message leaves"
                f" {days:.0f} days after the step that gave it.",
            )


def _gives(step: StepBase, offer: int, around: Surroundings) -> bool:
    """Whether somebody who comes to a step has a code of the offer afterwards."""
    if isinstance(step, OfferStep):
        return step.offer == offer
    shown = around.codes.get(step.message or 0, ()) if isinstance(step, MessageStep) else ()
    return any(other == offer for other, _, _ in shown)


def _opens(step: MessageStep, quiet: QuietHours) -> bool:
    return any(open_hours(step.release, quiet.begins, quiet.ends))


def _run(walk: Walk, node: "Node") -> None:
    """The refusals in their settled order; stop rules were asked at the beginning."""
    assert isinstance(node.step, MessageStep)
    if walk.awaits == PASSED:
        return go(walk, node.after, walk.due)
    message, facts, due = node.step.message, walk.facts, walk.due
    if message is None:
        return refuse(walk, node, "no message", due)
    attempt = Attempt(
        due=due,
        window=node.step.release,
        patience=walk.tree.plan.patience,
        marketing=facts.marketing(message),
        zone=facts.zone,
        sent=facts.sent_times() if facts.limits else (),
        first_due=walk.tried,
        not_after=end_of_its_day(walk.tree.plan.start, walk.anchor, facts.zone),
    )
    decision = when(attempt, facts.quiet, facts.limits, walk.now)
    if decision.kind == "withhold" and decision.cause != CONTACT_LIMIT:
        refuse(walk, node, decision.cause, due)
        return leave(walk, decision.cause) if decision.cause == TOO_LATE else None
    if decision.kind == "postpone" and decision.cause != CONTACT_LIMIT:
        return hold(walk, decision.until, walk.tried)
    channel, cause = _open_channel(facts, message, node.step.channels)
    if channel is None:
        return refuse(walk, node, cause, due)
    if decision.kind == "withhold":
        return refuse(walk, node, decision.cause, due)
    if decision.kind == "postpone":
        return hold(walk, decision.until, walk.tried or decision.planned)
    at = decision.planned if walk.now - decision.planned <= LATE else walk.now
    walk.acts.append(Act("send", node.step.id, at, channel))
    walk.due, walk.awaits = at, ON_ITS_WAY
    return None


def _open_channel(facts: Facts, message: int, channels: Sequence[str]) -> tuple[str | None, str]:
    """The first channel against which nothing speaks.

    Where there is none, what speaks against the first of all.
    """
    first = ""
    for channel in channels:
        cause = facts.refusal(message, channel)
        if cause is None:
            return channel, ""
        first = first or cause
    return None, first


STEP = StepType(
    MessageStep,
    "a message",
    _say,
    _check,
    _run,
    {
        "channels": ["email"],
        "release": {"kind": "window", "weekdays": [0, 1, 2, 3, 4], "begins": "10:00", "ends": "18:00"},
    },
)
