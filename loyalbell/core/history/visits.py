"""Visits: a kept appointment, a walk-in, or an order made in person.

Two on one local day at one place are one.
"""

from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache

import numpy as np

from loyalbell.core.clock.local_time import start_of_day
from loyalbell.core.history.columns import NEVER, Ints, Rows, Small, column
from loyalbell.core.history.snapshot import KEPT, HistorySnapshot

EPOCH = date(1970, 1, 1)
SECONDS = 86_400
SHELF = 512
"""Days are looked up in whole shelves, so that asking for one day more finds the same shelf."""


@dataclass(frozen=True)
class Visits(Rows):
    department: Small = column(np.int32)
    location: Small = column(np.int32)


@dataclass(frozen=True)
class _Table:
    """Everything that may be a visit: ``rows`` in order of time, the rest by person, day and place, then by
    time.

    ``row`` says which of the rows; it counts from ``known`` until before ``until``; ``place`` numbers person,
    day and place.
    """

    rows: Visits
    row: Ints
    known: Ints
    until: Ints
    place: Ints


def visits(snapshot: HistorySnapshot, as_of: int) -> Visits:
    """Every visit that was known at ``as_of``; each stands at the first instant of its day and place."""
    table = snapshot.worked_out.get("visits")
    if table is None:
        table = snapshot.worked_out["visits"] = _table(snapshot)
    counted = np.flatnonzero((table.known <= as_of) & (table.until > as_of))
    if not len(counted):
        return Visits.of()
    place = table.place[counted]
    first = np.zeros(len(table.rows), dtype=np.bool_)
    first[table.row[counted[np.append(True, place[1:] != place[:-1])]]] = True
    return table.rows.taken(first)


def _table(snapshot: HistorySnapshot) -> _Table:
    kept = snapshot.appointments.taken(snapshot.appointments.outcome == KEPT)
    bought, came = snapshot.orders.taken(snapshot.orders.in_person), snapshot.walk_ins
    parts = (kept, bought, came)
    rows = Visits(
        key=np.arange(sum(map(len, parts))),
        person=np.concatenate([part.person for part in parts]),
        at=np.concatenate([part.at for part in parts]),
        department=np.concatenate([part.department for part in parts]),
        location=np.concatenate([part.location for part in parts]),
    )
    known = np.concatenate(
        [np.maximum.reduce((kept.at, kept.settled_at, kept.booked_at)), bought.at, came.at]
    )
    until = np.concatenate([np.full(len(kept), NEVER), bought.void_at, np.full(len(came), NEVER)])
    in_time = np.argsort(rows.at, kind="stable")
    rows, known, until = rows.taken(in_time), known[in_time], until[in_time]
    place = _day_and_place(rows, snapshot.zone)
    order = np.argsort(place, kind="stable")
    return _Table(rows, order, known[order], until[order], place[order])


def _day_and_place(rows: Visits, zone: str) -> Ints:
    """One number for each person, day and place: 31, 20 and 12 bits."""
    if not len(rows):
        return np.zeros(0, dtype=np.int64)
    days = local_days(rows.at, zone)
    person = rows.person.astype(np.int64) << 32
    place: Ints = ((days - days.min()) << 12) | (rows.location & 0xFFF)
    return person | place


def local_days(instants: Ints, zone: str) -> Ints:
    """The local day of each instant, as days since 1970-01-01."""
    if not len(instants):
        return np.zeros(0, dtype=np.int64)
    first, last = int(instants.min()) // SECONDS, int(instants.max()) // SECONDS
    low, high = (first - 1) // SHELF * SHELF, ((last + 2) // SHELF + 1) * SHELF
    starts = _day_starts(low, high, zone)
    return low + np.searchsorted(starts, instants, side="right") - 1


@lru_cache(maxsize=64)
def _day_starts(low: int, high: int, zone: str) -> Ints:
    days = (EPOCH + timedelta(days=day) for day in range(low, high + 1))
    return np.array([int(start_of_day(day, zone).timestamp()) for day in days], dtype=np.int64)


def day_number(day: date) -> int:
    """Days since 1970-01-01."""
    return (day - EPOCH).days


def today_number(as_of: int, zone: str) -> int:
    """The local day of an instant, as days since 1970-01-01."""
    return int(local_days(np.array([as_of]), zone)[0])


def day_of_number(number: int) -> date:
    return EPOCH + timedelta(days=number)
