"""Cohorts: people by the month of their first purchase, and how many bought in each month after."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Ints, distinct
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import today_number
from loyalbell.core.rhythm.return_curve import Part, buying_days

Months = NDArray[np.int64]


@dataclass(frozen=True)
class Cohorts:
    """``months`` count from January 1970; ``active[i, k]`` of ``sizes[i]`` bought k months after their first.

    -1 stands for months that have not begun. The last month may not be over.
    """

    months: Months
    sizes: Ints
    active: Ints


def month_numbers(days: Ints) -> Months:
    """Calendar months, counted from January 1970, of days counted from 1970-01-01."""
    return days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)


def say_month(month: int) -> str:
    """``2026-05``."""
    return str(np.datetime64(int(month), "M"))


def cohorts(snapshot: HistorySnapshot, as_of: int, part: Part | None = None) -> Cohorts:
    bought = buying_days(snapshot, as_of, part)
    none = np.zeros(0, dtype=np.int64)
    if not len(bought.day):
        return Cohorts(none, none, np.zeros((0, 0), dtype=np.int64))
    month = month_numbers(bought.day)
    first = np.full(len(snapshot.people), np.iinfo(np.int64).max)
    np.minimum.at(first, bought.person, month)
    own = first[bought.person]
    now = int(month_numbers(np.array([today_number(as_of, snapshot.zone)]))[0])
    begin = int(own.min())
    width = now - begin + 1
    once = distinct((bought.person.astype(np.int64) * width) + (month - own))
    person, later = once // width, once % width
    table = np.zeros((width, width), dtype=np.int64)
    np.add.at(table, (first[person] - begin, later), 1)
    for row in range(width):
        table[row, width - row :] = -1
    return Cohorts(np.arange(begin, now + 1), table[:, 0].copy(), table)
