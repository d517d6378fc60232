"""Rows of which all columns are the same."""

from collections.abc import Sequence

import numpy as np

from loyalbell.core.history.columns import Ints


def grouped(columns: Sequence[Ints]) -> tuple[Ints, Ints]:
    """(Group of each row, first row of each group): rows of which all columns are the same are a group."""
    size = len(columns[0])
    varied = [column for column in columns if size and (column != column[0]).any()]
    if not varied:
        return np.zeros(size, dtype=np.int64), np.zeros(min(size, 1), dtype=np.int64)
    order = np.lexsort(varied)
    new = np.ones(size, dtype=np.bool_)
    new[1:] = False
    for column in varied:
        ordered = column[order]
        new[1:] |= ordered[1:] != ordered[:-1]
    place = np.zeros(size, dtype=np.int64)
    place[order] = np.cumsum(new) - 1
    return place, order[new]


def parted(columns: Sequence[Ints]) -> list[Ints]:
    """The rows of each group."""
    place, firsts = grouped(columns)
    return [np.flatnonzero(place == group) for group in range(len(firsts))]
