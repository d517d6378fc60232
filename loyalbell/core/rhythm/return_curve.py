"""How long it takes until people buy again, those who have not come back yet included."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Ints, Mask, Small, distinct
from loyalbell.core.history.settled import by_person, settled_from, standing, worked_out
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import local_days, today_number, visits

Floats = NDArray[np.float64]
Z95 = 1.959963984540054
MOST_RETURNED = 0.9
THUMB = (2.0, 2.5)


@dataclass(frozen=True)
class Part:
    """Which orders to look at: one department, category or item, or all of them."""

    department: int | None = None
    category: str | None = None
    item: int | None = None


@dataclass(frozen=True)
class BuyingDays:
    """Days on which people bought, one row a person and day, by person and then day.

    ``day`` counts from 1970-01-01 in local days; several orders on one day are one row.
    """

    person: Small
    day: Ints


def rows_of(snapshot: HistorySnapshot, as_of: int, part: Part | None = None) -> tuple[Small, Ints, Ints]:
    """(person, instant, money) of what stood at ``as_of``: orders, or the lines of a category or an item."""
    part = part or Part()
    if part.category is None and part.item is None:
        orders = snapshot.orders
        rows = orders.span(-(2**62), as_of)
        kept = orders.counted(rows, as_of)
        if part.department is not None:
            kept &= orders.department[rows] == part.department
        return orders.person[rows][kept], orders.at[rows][kept], orders.net_money(rows, as_of)[kept]
    lines = snapshot.lines
    rows = lines.span(-(2**62), as_of)
    kept = (lines.void_at[rows] > as_of) & np.isin(lines.item[rows], _items(snapshot, part))
    if part.department is not None:
        kept &= lines.department[rows] == part.department
    return lines.person[rows][kept], lines.at[rows][kept], lines.money[rows][kept]


def _items(snapshot: HistorySnapshot, part: Part) -> list[int]:
    if part.item is not None:
        return [part.item]
    return [at for at, (_, category, _) in snapshot.catalogue.items.items() if category == part.category]


def buying_days(snapshot: HistorySnapshot, as_of: int, part: Part | None = None) -> BuyingDays:
    """Every day on which each person bought by ``as_of``."""
    orders = snapshot.orders
    if (part is None or part == Part()) and as_of >= settled_from(orders):
        key = ("buying days", snapshot.zone)
        return worked_out(orders, key, lambda: _settled_days(snapshot))
    person, at, _ = rows_of(snapshot, as_of, part)
    return by_day(person, at, snapshot.zone)


def _settled_days(snapshot: HistorySnapshot) -> BuyingDays:
    """Of all orders that stand, laid out by person: no sort is needed."""
    orders = snapshot.orders
    places = by_person(orders, len(snapshot.people)).rows
    places = places[standing(orders)[places]]
    person, day = orders.person[places], local_days(orders.at, snapshot.zone)[places]
    new = np.ones(len(places), dtype=np.bool_)
    new[1:] = (person[1:] != person[:-1]) | (day[1:] != day[:-1])
    return BuyingDays(person[new], day[new])


def by_day(person: Small, at: Ints, zone: str) -> BuyingDays:
    """Each person's days, several instants of a day as one."""
    days = local_days(at, zone)
    if not len(days):
        return BuyingDays(person, days)
    first = int(days.min())
    both = distinct((person.astype(np.int64) << 32) | (days - first))
    return BuyingDays((both >> 32).astype(np.int32), (both & 0xFFFFFFFF) + first)


def came_days(snapshot: HistorySnapshot, as_of: int, department: int | None = None) -> BuyingDays:
    """Every day on which each person came in by ``as_of``."""
    came = visits(snapshot, as_of)
    if department is not None:
        came = came.taken(came.department == department)
    return by_day(came.person, came.at, snapshot.zone)


def gaps(bought: BuyingDays, today: int) -> tuple[Ints, Mask]:
    """Days to the next purchase after each one, and whether it has come (else the wait so far)."""
    last = np.ones(len(bought.day), dtype=np.bool_)
    last[:-1] = bought.person[1:] != bought.person[:-1]
    length = np.empty(len(bought.day), dtype=np.int64)
    length[:-1] = bought.day[1:] - bought.day[:-1]
    length[last] = today - bought.day[last]
    return length, ~last


def first_gaps(bought: BuyingDays, today: int) -> tuple[Ints, Mask]:
    """The same for each person's first purchase alone."""
    length, came = gaps(bought, today)
    first = np.ones(len(bought.day), dtype=np.bool_)
    first[1:] = bought.person[1:] != bought.person[:-1]
    return length[first], came[first]


@dataclass(frozen=True)
class RepeatCurve:
    """Share not yet back after each number of days, by Kaplan and Meier (J. Am. Stat. Assoc. 53, 1958).

    ``low`` and ``high`` bound it with 95 % by Greenwood's formula on the log-log scale
    (Kalbfleisch and Prentice 1980). ``waits`` are the purchases looked at, ``returned`` those that
    were followed by another.
    """

    days: Ints
    not_back: Floats
    low: Floats
    high: Floats
    waits: int
    returned: int

    def reaches(self, share: float) -> int | None:
        """The first day by which at most ``share`` are not yet back; ``None`` where the curve stays above."""
        found = np.flatnonzero(self.not_back <= share + 1e-12)
        return int(self.days[found[0]]) if len(found) else None

    def at(self, day: float) -> float:
        """The share not yet back after ``day`` days."""
        place = int(np.searchsorted(self.days, day, side="right"))
        return float(self.not_back[place - 1]) if place else 1.0

    @property
    def ever(self) -> float:
        """The share who come back within the longest wait on file."""
        return 1 - float(self.not_back[-1]) if len(self.days) else 0.0

    @property
    def typical(self) -> int | None:
        """Days within which half of those who ever come back have done so."""
        return self.reaches(1 - self.ever / 2) if self.ever else None

    def winback_line(self, share: float = MOST_RETURNED) -> int | None:
        """Days by which ``share`` of those who ever come back have come back."""
        return self.reaches(1 - self.ever * share) if self.ever else None

    def still_come(self, day: float) -> float:
        """Of those not back after ``day`` days, the share who come back later without help."""
        out = self.at(day)
        return 1 - (1 - self.ever) / out if out > 0 else 0.0


def repeat_curve(length: Ints, came: Mask) -> RepeatCurve:
    """The product-limit estimate; those still out are censored at their wait so far."""
    none = np.zeros(0)
    if not len(length):
        return RepeatCurve(np.zeros(0, dtype=np.int64), none, none, none, 0, 0)
    top = int(length.max()) + 1
    returned = np.bincount(length[came], minlength=top)
    everyone = np.bincount(length, minlength=top)
    at_risk = len(length) - np.concatenate(([0], np.cumsum(everyone)[:-1]))
    days = np.flatnonzero(returned)
    events, risk = returned[days].astype(np.float64), at_risk[days].astype(np.float64)
    curve: Floats = np.cumprod(1 - events / risk).astype(np.float64)
    low, high = _bounds(curve, events, risk)
    return RepeatCurve(days, curve, low, high, len(length), int(came.sum()))


def _bounds(curve: Floats, events: Floats, risk: Floats) -> tuple[Floats, Floats]:
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = np.sqrt(np.cumsum(events / (risk * (risk - events)))) / np.log(curve)
        log_log = np.log(-np.log(curve))
        low, high = (np.exp(-np.exp(log_log + sign * Z95 * spread)) for sign in (-1, 1))
    gone = curve <= 0
    return np.where(gone, 0.0, low), np.where(gone, 0.0, high)


def typical_gap(snapshot: HistorySnapshot, as_of: int, part: Part | None = None) -> int | None:
    """Days within which half of those who ever buy again have done so; ``None`` without repeats."""
    bought, today = buying_days(snapshot, as_of, part), today_number(as_of, snapshot.zone)
    return worked_out(bought, ("typical gap", today), lambda: repeat_curve(*gaps(bought, today)).typical)
