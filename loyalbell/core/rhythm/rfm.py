"""Recency, frequency and money as scores from 1 to 5, 5 best.

The rule for ties: equal values share the better score. The score of a value is the
smallest s from 1 to 5 with (k - 1) / (n - 1) <= s / 5, where k of the n people have that
value or a worse one. On values without ties these are the quintiles of pandas.qcut.
"""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.history.before import before
from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.rhythm.return_curve import Part, buying_days, rows_of

SCORES = 5
TIES = "equal values share the better score"


@dataclass(frozen=True)
class Grid:
    """``recency``, ``frequency``, ``money`` are scores by person number, 0 for who never bought.

    ``count`` and ``spent`` are SCORES x SCORES, recency by row and frequency by column, 1 first.
    """

    recency: Ints
    frequency: Ints
    money: Ints
    count: Ints
    spent: Ints
    last_day: Ints
    purchases: Ints
    value: Ints


def scores(values: Ints) -> Ints:
    """Quintiles from 1 to 5, greater values better."""
    size = len(values)
    if size < 2:
        return np.full(size, SCORES, dtype=np.int64)
    rank = np.searchsorted(np.sort(values), values, side="right")
    found: Ints = np.maximum(-(-SCORES * (rank - 1) // (size - 1)), 1)
    return found


def grid(snapshot: HistorySnapshot, as_of: int, part: Part | None = None) -> Grid:
    """Scores of everyone who bought by ``as_of`` and is on file then.

    Recency is the last day they bought on.
    """
    bought, count = buying_days(snapshot, as_of, part), len(snapshot.people)
    person, _, money = rows_of(snapshot, as_of, part)
    purchases = np.bincount(bought.person, minlength=count)
    last_day = np.zeros(count, dtype=np.int64)
    last_day[bought.person] = bought.day
    value = snapshot.per_person(person, money)
    sums = before(snapshot, as_of) if part is None or part == Part() else None
    if sums is not None:
        last_day = np.where(purchases > 0, last_day, sums.last_day(snapshot.zone))
        purchases, value = purchases + sums.orders, value + sums.money
    has: Mask = (purchases > 0) & snapshot.on_file(as_of)
    found = {name: np.zeros(count, dtype=np.int64) for name in ("recency", "frequency", "money")}
    for name, values in (("recency", last_day), ("frequency", purchases), ("money", value)):
        found[name][has] = scores(values[has])
    cell = (found["recency"][has] - 1) * SCORES + found["frequency"][has] - 1
    shape = (SCORES, SCORES)
    counts = np.bincount(cell, minlength=SCORES**2).reshape(shape)
    spent = (
        np.rint(np.bincount(cell, weights=value[has], minlength=SCORES**2)).astype(np.int64).reshape(shape)
    )
    return Grid(**found, count=counts, spent=spent, last_day=last_day, purchases=purchases, value=value)
