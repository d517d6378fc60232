"""Whether somebody is in a saved segment.

Who meets it is worked out in ``evaluation.py``, which knows the rules.
"""

from typing import Literal

from loyalbell.core.segments.conditions.wording import GONE, Saying
from loyalbell.core.segments.periods import Part


class SegmentCondition(Part):
    """In another segment, or not."""

    about: Literal["segment"] = "segment"
    segment: int
    within: bool = True


def say(line: SegmentCondition, saying: Saying) -> str:
    name = saying.segments.get(line.segment, GONE)
    return f"are {'' if line.within else 'not '}in the segment “{name}”"
