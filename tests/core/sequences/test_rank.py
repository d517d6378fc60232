"""A person's n-th order, counting only earlier ones that still stood then: against a plain loop."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.sequences.event_rows import STANDING, EventRows, _rank

ROWS = st.lists(
    st.tuples(st.integers(0, 3), st.integers(-40, 40), st.one_of(st.none(), st.integers(-30, 50))),
    max_size=25,
)


def plainly(rows: list[tuple[int, int, int]]) -> list[int]:
    """One row after another: its place among the person's rows, less those that were void by then."""
    found = []
    for number, (person, at, _) in enumerate(rows):
        mine = [(when, other, until) for other, (who, when, until) in enumerate(rows) if who == person]
        before = [one for one in mine if one[:2] < (at, number)]
        voided = [one for one in mine if one[0] < at and one[2] <= at]
        found.append(1 + len(before) - len(voided))
    return found


class RankTest(unittest.TestCase):
    @given(ROWS)
    def test_as_a_plain_loop_counts(self, drawn: list[tuple[int, int, int | None]]) -> None:
        rows = sorted((person, at, STANDING if until is None else until) for person, at, until in drawn)
        rows.sort(key=lambda row: row[1])
        columns = [np.array([row[part] for row in rows], dtype=np.int64) for part in range(3)]
        keys = np.arange(len(rows))
        made = EventRows(columns[0].astype(np.int32), columns[1], keys, columns[2], columns[1])
        self.assertEqual(_rank(made).tolist(), plainly(rows))

    def test_three_orders_of_which_the_first_was_cancelled(self) -> None:
        """A cancelled order does not count: the third is the second (rules of the job, section 2)."""
        rows = [(0, 10, 15), (0, 20, STANDING), (0, 30, STANDING)]
        self.assertEqual(plainly(rows), [1, 1, 2])
