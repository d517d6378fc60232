"""Sequences somebody is or was in."""

from typing import Literal

from pydantic import Field

from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import ENROLMENT_ENDS
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.measuring import any_of
from loyalbell.core.segments.conditions.wording import GONE, Saying, join
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import MOST_DAYS, Part

DAY = 86_400


class SequencesCondition(Part):
    """Sequences: on their way through one now, came in, came to the end, left early, or were held back from
    one.

    For all but the first ``days`` counts back, 0 for ever.
    """

    about: Literal["sequences"] = "sequences"
    state: Literal["under way", "came in", "finished", "left", "held back"] = "under way"
    sequence: int | None = None
    days: int = Field(default=0, ge=0, le=MOST_DAYS)
    has: bool = True


def meets(line: SequencesCondition, context: EvaluationContext) -> Mask:
    enrolments, now = context.snapshot.enrolments, context.now
    kept = enrolments.at <= now
    if line.sequence is not None:
        kept &= enrolments.sequence == line.sequence
    held_back = enrolments.how == ENROLMENT_ENDS.index("held back")
    since = now - line.days * DAY if line.days else -(2**62)
    if line.state == "under way":
        kept &= enrolments.ended_at > now
    elif line.state == "came in":
        kept &= (enrolments.at > since) & ~held_back
    elif line.state == "held back":
        kept &= (enrolments.at > since) & held_back
    else:
        kept &= (
            (enrolments.how == ENROLMENT_ENDS.index(line.state))
            & (enrolments.ended_at <= now)
            & (enrolments.ended_at > since)
        )
    found = any_of(enrolments.person[kept], context)
    return found if line.has else ~found


def say(line: SequencesCondition, saying: Saying) -> str:
    which = "any sequence" if line.sequence is None else f"“{saying.sequences.get(line.sequence, GONE)}”"
    verbs = {
        "under way": ("are on their way through", "are not on their way through"),
        "came in": ("came into", "did not come into"),
        "finished": ("came to the end of", "did not come to the end of"),
        "left": ("left early", "did not leave early"),
        "held back": ("were held back from", "were not held back from"),
    }
    verb = verbs[line.state][0 if line.has else 1]
    if line.state == "under way":
        return join(verb, which, "now")
    return join(verb, which, f"in the last {line.days} days" if line.days else "ever")


CONDITION = ConditionType(SequencesCondition, meets, say)
