"""Rows by person and time: the quick way for rows in order of time gives what NumPy's lexsort gives."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.columns import order_by_person

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
