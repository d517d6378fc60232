"""Which number a person has among those on file."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.snapshot import HistorySnapshot, People
from loyalbell.core.sequences.engine_facts import SendPolicy, SequenceHistory
from loyalbell.services.sequences.engine_batch import numbers_of
from tests.support import ZONE

IDS = st.lists(st.integers(1, 40), max_size=12)


class NumbersOf(unittest.TestCase):
    @given(IDS, IDS)
    def test_those_on_file_have_their_place_in_the_order_of_ids(
        self, ids: list[int], asked: list[int]
    ) -> None:
        there = sorted(set(ids))
        known = SequenceHistory(
            HistorySnapshot(ZONE, "USD", People.of(there, [0] * len(there))), SendPolicy()
        )
        expected = {one: there.index(one) for one in asked if one in there}
        self.assertEqual(numbers_of(known, asked), expected)
