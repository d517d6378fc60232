"""The band a person is in, by their own expected gap between purchases."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

BANDS = ("new", "in rhythm", "late", "quiet", "silent")
IN_RHYTHM, LATE, QUIET = 1.25, 2.0, 4.0
SHRINK = 2


@dataclass(frozen=True)
class PersonalRhythm:
    """Days are whole local days. ``expected_gap`` leans on the shop's where the person has few gaps of their own."""

    purchases: int
    own_gap: float | None
    expected_gap: float
    since_last: int
    band: str

    @property
    def next_in(self) -> int:
        """Days until the next visit is expected; negative where it is overdue."""
        return round(self.expected_gap) - self.since_last


def expected_gap(own: list[int], shop: float) -> float:
    """The median of a person's gaps, weighted against the shop's typical gap as if that were two gaps more."""
    if not own:
        return shop
    return (len(own) * float(np.median(own)) + SHRINK * shop) / (len(own) + SHRINK)


def band_of(purchases: int, since_last: float, gap: float) -> str:
    """The band after ``since_last`` days without a purchase, for an expected gap in days."""
    late = since_last / max(gap, 1.0)
    if late <= IN_RHYTHM:
        return "new" if purchases == 1 else "in rhythm"
    return "late" if late <= LATE else "quiet" if late <= QUIET else "silent"


def personal_rhythm(days: list[int], today: int, shop: float) -> PersonalRhythm | None:
    """From the days on which a person bought (ascending, each once); ``None`` for someone who never did."""
    if not days:
        return None
    own = [later - earlier for earlier, later in pairwise(days)]
    gap = expected_gap(own, shop)
    since = today - days[-1]
    return PersonalRhythm(
        len(days), float(np.median(own)) if own else None, gap, since, band_of(len(days), since, gap)
    )
