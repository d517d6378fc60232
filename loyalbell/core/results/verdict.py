"""What a comparison says by now, in one of five words, and how long it would still take. Pure."""

from dataclasses import dataclass
from enum import StrEnum
from math import ceil

from loyalbell.core.results.defaults import WORTH as WORTH
from loyalbell.core.results.lift import ALPHA, Interval, Outcomes, adjusted, any_time, any_time_reach

LEAST, LEAST_IN_A_GROUP = 200, 20
"""Below so many people nothing is said at all: the interval leans on large numbers (a decision of ours)."""
PLANNED = 2_000
"""The interval is narrowest at so many people; settled beforehand, since it must not follow the data."""
MOST_PEOPLE = 50_000_000


class Verdict(StrEnum):
    """``ADDED`` and ``COST``: certain enough that more, or fewer, came back than without it."""

    ADDED = "added"
    COST = "cost"
    NO_DIFFERENCE = "no difference worth having"
    TOO_EARLY = "too early"
    NOBODY_HELD = "nobody held back"


@dataclass(frozen=True)
class Judged:
    """``interval`` is of the difference of shares, safe to look at every day; ``None`` where there is none.

    ``people_to_go`` is how many more must qualify until it is likely decided; ``None`` where it is, or where
    that cannot be said. ``worth`` is the least difference of shares worth having.
    """

    verdict: Verdict
    interval: Interval | None = None
    people_to_go: int | None = None
    worth: float = WORTH


def judge(
    treated: Outcomes,
    held: Outcomes,
    worth: float = WORTH,
    planned: int = PLANNED,
    alpha: float = ALPHA,
) -> Judged:
    """Of outcomes 1 (came back) and 0, with what was known before. ``alpha`` is the error to be allowed."""
    if not len(held):
        return Judged(Verdict.NOBODY_HELD, worth=worth)
    if min(len(treated), len(held)) < LEAST_IN_A_GROUP or len(treated) + len(held) < LEAST:
        return Judged(Verdict.TOO_EARLY, None, _until_enough(treated, held), worth)
    narrowed = adjusted(treated, held)
    found = any_time(*narrowed, planned, alpha)
    if found.low > 0:
        return Judged(Verdict.ADDED, found, None, worth)
    if found.high < 0:
        return Judged(Verdict.COST, found, None, worth)
    if -worth <= found.low and found.high <= worth:
        return Judged(Verdict.NO_DIFFERENCE, found, None, worth)
    return Judged(Verdict.TOO_EARLY, found, to_go(*narrowed, found, worth, planned, alpha), worth)


def _until_enough(treated: Outcomes, held: Outcomes) -> int:
    people = len(treated) + len(held)
    fewest = min(len(treated), len(held))
    share = max(fewest / people, 0.01)
    return max(LEAST - people, ceil((LEAST_IN_A_GROUP - fewest) / share))


def to_go(
    treated: Outcomes, held: Outcomes, found: Interval, worth: float, planned: int, alpha: float = ALPHA
) -> int | None:
    """People until the interval, around today's best estimate, leaves zero out or fits within ``worth``."""
    now = len(treated) + len(held)
    wanted = max(abs(found.best), worth - abs(found.best))
    spread = found.width / 2 / any_time_reach(now, planned, alpha)
    if wanted <= 0 or spread <= 0:
        return None
    low, high = now, now
    while spread * any_time_reach(high, planned, alpha) > wanted:
        high *= 2
        if high > MOST_PEOPLE:
            return None
    while high - low > 1:
        middle = (low + high) // 2
        if spread * any_time_reach(middle, planned, alpha) > wanted:
            low = middle
        else:
            high = middle
    return high - now
