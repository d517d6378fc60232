"""The band a person is in, by their own expected gap between purchases."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.before import before
from loyalbell.core.history.columns import Ints, Small
from loyalbell.core.history.settled import worked_out
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import today_number
from loyalbell.core.rhythm.return_curve import BuyingDays, Part, buying_days, gaps

BANDS = ("new", "in rhythm", "late", "quiet", "silent")
IN_RHYTHM, LATE, QUIET = 1.25, 2.0, 4.0
SHRINK = 2
NEVER_BOUGHT = -1


@dataclass(frozen=True)
class PersonalRhythm:
    """Days are whole local days.

    ``expected_gap`` leans on the shop's where the person has few gaps of their own.
    """

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
    """The median of a person's gaps, weighted against the shop's typical gap as if that were two gaps
    more.
    """
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


@dataclass(frozen=True)
class Rhythms:
    """Everybody's rhythm, by person number. ``band`` is a place in ``BANDS``, -1 for who never bought."""

    purchases: Ints
    last_day: Ints
    gap: NDArray[np.float64]
    band: Small


def rhythms(snapshot: HistorySnapshot, as_of: int, shop: float, part: Part | None = None) -> Rhythms:
    """The same as ``personal_rhythm`` for the whole book at once.

    ``shop`` is the shop's typical gap in days.
    """
    bought, count = buying_days(snapshot, as_of, part), len(snapshot.people)
    today = today_number(as_of, snapshot.zone)
    purchases, last_day = worked_out(bought, ("last day", count), lambda: _purchases(bought, count))
    # the gaps that have come do not depend on the day that it is
    own, middle = worked_out(bought, ("medians", count), lambda: own_medians(bought, today, count))
    sums = before(snapshot, as_of) if part is None or part == Part() else None
    if sums is not None:
        # a sum's last purchase is always before the first order
        last_day = np.where(purchases > 0, last_day, sums.last_day(snapshot.zone))
        purchases = purchases + sums.orders
        gaps_before, usual = sums.usual_gap()
        middle = np.where(own > 0, middle, usual)
        own = np.where(own > 0, own, gaps_before)
    gap = (own * np.where(own > 0, middle, 0.0) + SHRINK * shop) / (own + SHRINK)
    late = (today - last_day) / np.maximum(gap, 1.0)
    band = np.digitize(late, (IN_RHYTHM, LATE, QUIET), right=True) + 1
    band[(band == 1) & (purchases == 1)] = 0
    band[purchases == 0] = NEVER_BOUGHT
    return Rhythms(purchases, last_day, gap, band.astype(np.int32))


def _purchases(bought: BuyingDays, count: int) -> tuple[Ints, Ints]:
    """How often each person bought, and the last day."""
    last_day = np.zeros(count, dtype=np.int64)
    last_day[bought.person] = bought.day
    return np.bincount(bought.person, minlength=count), last_day


def own_medians(bought: BuyingDays, today: int, count: int) -> tuple[Ints, NDArray[np.float64]]:
    """How many gaps each person has, and their median (0 where there are none)."""
    length, came = gaps(bought, today)
    person = bought.person[came]
    length = np.sort((person.astype(np.int64) << 32) | length[came]) & 0xFFFFFFFF
    own = np.bincount(person, minlength=count)
    starts = np.concatenate(([0], np.cumsum(own)[:-1]))
    middle = np.zeros(count)
    has = own > 0
    low, high = starts[has] + (own[has] - 1) // 2, starts[has] + own[has] // 2
    middle[has] = (length[low] + length[high]) / 2
    return own, middle
