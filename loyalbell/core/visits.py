"""Visits: a kept appointment, a walk-in, or an order made in person; two on one local day at one place are one."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache

import numpy as np

from loyalbell.core.columns import Ints, Rows, Small, column
from loyalbell.core.ledger import KEPT, Ledger
from loyalbell.core.timing import start_of_day

EPOCH = date(1970, 1, 1)
SECONDS = 86_400
SHELF = 512
"""Days are looked up in whole shelves, so that asking for one day more finds the same shelf."""


@dataclass(frozen=True)
class Visits(Rows):
    department: Small = column(np.int32)
    location: Small = column(np.int32)


def visits(ledger: Ledger, as_of: int) -> Visits:
    """Every visit that was known at ``as_of``; each stands at the first instant of its day and place."""
    orders, appointments, walk_ins = ledger.orders, ledger.appointments, ledger.walk_ins
    kept = appointments.taken((appointments.state(as_of) == KEPT) & (appointments.at <= as_of))
    bought = orders.taken((orders.at <= as_of) & orders.in_person & (orders.void_at > as_of))
    came = walk_ins.taken(walk_ins.at <= as_of)
    parts = (kept, bought, came)
    every = Visits.of(
        person=np.concatenate([part.person for part in parts]),
        at=np.concatenate([part.at for part in parts]),
        department=np.concatenate([part.department for part in parts]),
        location=np.concatenate([part.location for part in parts]),
    )
    if not len(every):
        return every
    _, first = np.unique(_day_and_place(every, ledger.zone), return_index=True)
    return every.taken(np.sort(first))


def _day_and_place(rows: Visits, zone: str) -> Ints:
    """One number for each person, day and place: 31, 20 and 12 bits."""
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


def instant_of(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)
