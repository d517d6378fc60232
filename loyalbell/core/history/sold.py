"""Lines of orders by what was bought, found without a look at every line of the book."""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.history.columns import Column, Ints, Small
from loyalbell.core.history.settled import settled_from, standing, worked_out
from loyalbell.core.history.snapshot import Lines


@dataclass(frozen=True)
class Sold:
    """Some lines in order of time: their rows in ``part``, who bought, and columns once asked for."""

    part: Lines
    places: Small
    person: Small
    cut_of: "tuple[Sold, slice] | None" = None

    def column(self, measure: str) -> Ints:
        """Money of the lines (``sum``) or their quantity in thousandths; kept with those it is cut of."""
        if self.cut_of is not None:
            whole, cut = self.cut_of
            return whole.column(measure)[cut]
        column = self.part.money if measure == "sum" else self.part.quantity
        return worked_out(self, measure, lambda: column[self.places])

    def taken(self, rows: Column) -> "Sold":
        return Sold(self.part, self.places[rows], self.person[rows])

    def between(self, rows: slice) -> "Sold":
        """Those whose rows in the part lie within a slice of it; nothing is copied."""
        low, high = np.searchsorted(self.places, (rows.start, rows.stop))
        if high - low == len(self.places):
            return self
        cut = slice(int(low), int(high))
        return Sold(self.part, self.places[cut], self.person[cut], (self, cut))


def sold_of(part: Lines, items: frozenset[int] | None, rows: slice, as_of: int) -> Sold:
    """Lines of some items (``None``: of any), within ``rows``, whose orders stood at an instant."""
    if items is None:
        return _of_any(part, rows, as_of)
    if as_of >= settled_from(part):
        kept = worked_out(_by_items(part), (items, "standing"), lambda: _standing_of(part, items))
        return kept.between(rows)
    found = _of(part, items).between(rows)
    return found.taken(np.flatnonzero(part.void_at[found.places] > as_of))


def _of_any(part: Lines, rows: slice, as_of: int) -> Sold:
    stood = standing(part)[rows] if as_of >= settled_from(part) else part.void_at[rows] > as_of
    places = np.flatnonzero(stood) + rows.start
    return Sold(part, places, part.person[places])


def _standing_of(part: Lines, items: frozenset[int]) -> Sold:
    found = _of(part, items)
    stood = standing(part)[found.places]
    return found if stood.all() else found.taken(np.flatnonzero(stood))


def _of(part: Lines, items: frozenset[int]) -> Sold:
    """All lines of the items, kept with the part."""
    return worked_out(_by_items(part), items, lambda: _gathered(part, items))


class _ByItems:
    """Room of its own for what is kept by items: many of them push nothing else out."""


def _by_items(part: Lines) -> _ByItems:
    return worked_out(part, "by items", _ByItems)


def _gathered(part: Lines, items: frozenset[int]) -> Sold:
    wanted = np.zeros(int(part.item.max(initial=0)) + 1, dtype=np.bool_)
    wanted[[item for item in items if item < len(wanted)]] = True
    places = np.flatnonzero(wanted[part.item]).astype(np.int32)
    return Sold(part, places, part.person[places])
