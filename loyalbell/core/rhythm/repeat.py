"""How long it takes until people buy again, those who have not come back yet included."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.columns import Ints, Mask, Small
from loyalbell.core.ledger import Ledger
from loyalbell.core.visits import local_days, today_number

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class BuyingDays:
    """Days on which people bought, one row a person and day, by person and then day.

    ``day`` counts from 1970-01-01 in local days; several orders on one day are one row.
    """

    person: Small
    day: Ints


def buying_days(ledger: Ledger, as_of: int, department: int | None = None) -> BuyingDays:
    """Every day on which each person bought by ``as_of``, of one department or of all."""
    orders = ledger.orders
    rows = orders.span(-(2**62), as_of)
    kept = orders.counted(rows, as_of)
    if department is not None:
        kept &= orders.department[rows] == department
    person, days = orders.person[rows][kept], local_days(orders.at[rows][kept], ledger.zone)
    if not len(days):
        return BuyingDays(person, days)
    first = int(days.min())
    both = np.unique((person.astype(np.int64) << 32) | (days - first))
    return BuyingDays((both >> 32).astype(np.int32), (both & 0xFFFFFFFF) + first)


def gaps(bought: BuyingDays, today: int) -> tuple[Ints, Mask]:
    """Days to the next purchase after each one, and whether it has come (else the wait so far)."""
    last = np.ones(len(bought.day), dtype=np.bool_)
    last[:-1] = bought.person[1:] != bought.person[:-1]
    length = np.empty(len(bought.day), dtype=np.int64)
    length[:-1] = bought.day[1:] - bought.day[:-1]
    length[last] = today - bought.day[last]
    return length, ~last


@dataclass(frozen=True)
class RepeatCurve:
    """Share not yet back after each number of days (Kaplan and Meier, J. Am. Stat. Assoc. 53, 1958)."""

    days: Ints
    not_back: Floats

    def reaches(self, share: float) -> int | None:
        """The first day by which at most ``share`` are not yet back; ``None`` where the curve stays above."""
        found = np.flatnonzero(self.not_back <= share + 1e-12)
        return int(self.days[found[0]]) if len(found) else None


def repeat_curve(length: Ints, came: Mask) -> RepeatCurve:
    """The product-limit estimate; those still out are censored at their wait so far."""
    if not len(length):
        return RepeatCurve(np.zeros(0, dtype=np.int64), np.zeros(0))
    top = int(length.max()) + 1
    returned = np.bincount(length[came], minlength=top)
    everyone = np.bincount(length, minlength=top)
    at_risk = len(length) - np.concatenate(([0], np.cumsum(everyone)[:-1]))
    days = np.flatnonzero(returned)
    return RepeatCurve(days, np.cumprod(1 - returned[days] / at_risk[days]))


def typical_gap(ledger: Ledger, as_of: int, department: int | None = None) -> int | None:
    """Days within which half of those who buy again (by the longest wait seen) have done so; ``None`` without repeats."""
    bought = buying_days(ledger, as_of, department)
    curve = repeat_curve(*gaps(bought, today_number(as_of, ledger.zone)))
    if not len(curve.days):
        return None
    return curve.reaches((1 + float(curve.not_back[-1])) / 2)
