"""Rows by person and time: the quick way for rows in order of time gives what NumPy's lexsort gives."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.columns import Parted, order_by_person

rows = st.lists(st.tuples(st.integers(0, 5), st.integers(-3, 3)), max_size=30)


class RowOrderTest(unittest.TestCase):
    @given(rows, st.booleans())
    def test_as_lexsort_and_stable(self, given_rows: list[tuple[int, int]], in_time: bool) -> None:
        if in_time:
            given_rows.sort(key=lambda row: row[1])
        person = np.array([row[0] for row in given_rows], dtype=np.int32)
        at = np.array([row[1] for row in given_rows], dtype=np.int64)
        found = order_by_person(person, at)
        self.assertEqual(found.tolist(), np.lexsort((at, person)).tolist())


class PartedTest(unittest.TestCase):
    @given(st.lists(st.integers(-3, 4), max_size=30))
    def test_as_a_look_at_every_row(self, values: list[int]) -> None:
        parted = Parted(np.array(values, dtype=np.int32))
        for value in range(-4, 6):
            wanted = [row for row, here in enumerate(values) if here == value]
            self.assertEqual(parted.rows(value).tolist(), wanted)
