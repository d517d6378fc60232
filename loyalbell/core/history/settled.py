"""What is worked out of a part of the history once and kept with it.

A part never changes: what was added makes another one. For instants after everything in it has happened
(``settled_from``), which is always so for *now*, what stands does not depend on the instant either.
"""

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from loyalbell.core.history.columns import NEVER, Column, Ints, Mask, Rows, Small, order_by_person
from loyalbell.core.history.snapshot import Lines, Orders

Found = TypeVar("Found")
KEPT, MOST_KEPT = "_worked_out", 64


def worked_out(part: Any, key: Hashable, work: Callable[[], Found]) -> Found:
    """``work()``, kept with ``part`` under ``key``; the oldest is forgotten where many are kept."""
    kept: dict[Hashable, Any] = part.__dict__.setdefault(KEPT, {})
    try:
        found: Found = kept[key]
    except KeyError:
        found = work()
        if len(kept) >= MOST_KEPT:
            kept.pop(next(iter(kept)), None)
        kept[key] = found
    return found


@dataclass(frozen=True)
class ByPerson:
    """Rows laid out by person, then time: ``rows[starts[p]:starts[p + 1]]`` are the places of person p."""

    rows: Small
    starts: Ints


def by_person(part: Rows, size: int) -> ByPerson:
    """For ``size`` people. One sort, kept with the part."""
    rows = worked_out(part, "by person", lambda: order_by_person(part.person, part.at).astype(np.int32))
    starts = worked_out(
        part,
        ("starts", size),
        lambda: np.concatenate(([0], np.cumsum(np.bincount(part.person, minlength=size)))),
    )
    return ByPerson(rows, starts)


def places_of(part: Rows, people: Ints, size: int) -> Ints:
    """The rows of some people (ascending), person by person and in time."""
    laid = by_person(part, size)
    starts, lengths = laid.starts[people], laid.starts[people + 1] - laid.starts[people]
    before = np.concatenate(([0], np.cumsum(lengths)[:-1])) if len(lengths) else lengths
    places = laid.rows[np.arange(int(lengths.sum())) + np.repeat(starts - before, lengths)]
    return places.astype(np.int64)


def settled_from(part: Orders | Lines) -> int:
    """From this second on nothing of what is on file changes what stands."""
    return worked_out(part, "settled from", lambda: _settled_from(part))


def _settled_from(part: Orders | Lines) -> int:
    if not len(part):
        return -int(NEVER)
    newest = int(part.at[-1])
    for times in (part.void_at, part.refunded_at) if isinstance(part, Orders) else (part.void_at,):
        known = times[times < NEVER]
        newest = max(newest, int(known.max()) if len(known) else newest)
    return newest


def standing(part: Orders | Lines) -> Mask:
    """Which orders, or lines of them, stand once all is settled. Not to be written into."""
    return worked_out(part, "standing", lambda: part.void_at == NEVER)


def stands(part: Orders | Lines, rows: slice, as_of: int) -> Mask:
    """Which of these rows stood at an instant. Not to be written into."""
    if as_of >= settled_from(part):
        return standing(part)[rows]
    found: Mask = part.void_at[rows] > as_of
    return found


def in_department(part: Orders | Lines, department: int, rows: slice | Column) -> Mask:
    """Which of these rows are of a department. Codes are compared as the smallest numbers that hold them."""
    codes = worked_out(part, "departments", lambda: smallest(part.department))
    found: Mask = codes[rows] == department
    return found


def smallest(codes: Small) -> Column:
    most = int(codes.max(initial=0))
    return codes.astype(np.int8 if most < 2**7 else np.int16 if most < 2**15 else np.int32)


def net_money(orders: Orders, places: Ints, as_of: int) -> Ints:
    """Money of orders less what had been refunded by an instant."""
    if as_of < settled_from(orders):
        return orders.net_money(places, as_of)
    net = worked_out(orders, "net money", lambda: _net(orders))
    found: Ints = net[places]
    return found


def _net(orders: Orders) -> Ints:
    back = orders.refunded_at < NEVER
    return orders.money - np.where(back, orders.refunded, 0) if back.any() else orders.money


def nth_places(part: Rows, kept: Mask, size: int, nth: Ints | int, cache: Hashable = None) -> Ints:
    """The place of the ``nth`` row a person among those kept, in time; people who have fewer are left out.

    ``kept`` is over all rows of the part; ``nth`` may differ by person (below 1: none). ``cache`` names a
    ``kept`` that is always the same for this part.
    """
    laid = by_person(part, size)
    counted = (
        worked_out(part, ("counted", cache), lambda: _counted(kept, laid))
        if cache is not None
        else _counted(kept, laid)
    )
    before = counted[laid.starts[:-1]]
    wanted = before + nth
    has = (wanted > before) & (wanted <= counted[laid.starts[1:]])
    # ``counted`` grows by one at each row kept: the first place that reaches a number is that row
    places: Ints = laid.rows[np.searchsorted(counted, wanted[has], side="left") - 1].astype(np.int64)
    return places


def _counted(kept: Mask, laid: ByPerson) -> Small:
    """How many rows are kept before each place of the layout, one more than there are rows."""
    counted = np.zeros(len(kept) + 1, dtype=np.int32)
    np.cumsum(kept[laid.rows], out=counted[1:], dtype=np.int32)
    return counted


def last_standing(orders: Orders, size: int) -> Ints:
    """When each person's newest order was that stands, once all is settled; ``-NEVER`` for none."""
    return worked_out(orders, ("last", size), lambda: _last(orders, size))


def _last(orders: Orders, size: int) -> Ints:
    last = np.full(size, -NEVER)
    places = np.flatnonzero(standing(orders))
    last[orders.person[places]] = orders.at[places]
    return last


def first_standing(orders: Orders, size: int) -> Ints:
    """The same of the oldest; ``NEVER`` for none."""
    return worked_out(orders, ("first", size), lambda: _first(orders, size))


def _first(orders: Orders, size: int) -> Ints:
    first = np.full(size, NEVER)
    places = np.flatnonzero(standing(orders))[::-1]
    first[orders.person[places]] = orders.at[places]
    return first
