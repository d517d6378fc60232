"""Messages somebody got, and what they did with them."""

from typing import Any, Literal

import numpy as np

from loyalbell.core.channels import CHANNELS, Channel
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType
from loyalbell.core.segments.conditions.measuring import Measured, compared, measured_fact, within_period
from loyalbell.core.segments.conditions.wording import GONE, Saying, join, say_measure, say_when, says_never
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Ever, Part, Period

RESPONSES = {"opened": ("opened",), "clicked": ("clicked",), "replied": ("replied",), "refused": ("refused",)}


ACTS = {
    "received": "received",
    "opened": "opened",
    "clicked": "clicked a link in",
    "replied": "replied to",
    "refused": "unsubscribed in",
}


class MessagesCondition(Part):
    """Messages somebody got, or what they did with them, counted by message."""

    about: Literal["messages"] = "messages"
    act: Literal["received", "opened", "clicked", "replied", "refused"] = "received"
    channel: Channel | None = None
    message: int | None = None
    comparison: Comparison = "at least"
    value: Amount = 1
    period: Period = Ever()


def measure(line: MessagesCondition, context: EvaluationContext) -> Measured:
    """A message opened twice is one message opened."""
    snapshot = context.snapshot
    if line.act == "received":
        part: Any = snapshot.deliveries
        rows = part.span(*context.span(line.period))
        kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    else:
        part = snapshot.engagements
        rows = part.span(*context.span(line.period))
        wanted = [snapshot.words.get(word, -1) for word in RESPONSES[line.act]]
        kept = np.isin(part.kind[rows], wanted)
    if line.channel is not None:
        kept &= part.channel[rows] == CHANNELS.index(line.channel)
    if line.message is not None:
        kept &= part.message[rows] == line.message
    kept = within_period(line.period, context, part, rows, kept)
    person = part.person[rows][kept]
    if line.act != "received":
        _, once = np.unique(part.delivery[rows][kept], return_index=True)
        person = person[once]
    return Measured(snapshot.per_person(person))


def say(line: MessagesCondition, saying: Saying) -> str:
    what = (
        f"“{saying.messages.get(line.message, GONE)}”"
        if line.message is not None
        else f"any {line.channel or 'message'}"
    )
    if line.message is not None and line.channel:
        what += f" by {line.channel}"
    said = "have not" if says_never(line) else "have"
    return join(said, ACTS[line.act], what, say_measure(line, saying), say_when(line))


CONDITION = ConditionType(
    MessagesCondition, compared(measure), say, fact=measured_fact(measure), rows="message"
)
