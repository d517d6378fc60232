"""Lines by what was bought against a look at each line."""

import unittest

import numpy as np

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import Lines
from loyalbell.core.history.sold import sold_of

MANY, LAST = 400, 999


def book(seed: int) -> Lines:
    rng = np.random.default_rng(seed)
    at = np.sort(rng.integers(0, LAST, MANY))
    return Lines.of(
        key=np.arange(MANY) // 2,
        person=rng.integers(0, 9, MANY),
        at=at,
        item=rng.integers(1, 7, MANY),
        money=rng.integers(1, 99, MANY),
        quantity=rng.integers(1, 9, MANY) * 1_000,
        void_at=np.where(rng.random(MANY) < 0.2, at + rng.integers(1, 300, MANY), NEVER),
    )


class SoldOf(unittest.TestCase):
    def test_each_instant_and_period_of_one_book(self) -> None:
        """Asked in turn, so that what one question left is what the next one finds."""
        part = book(4)
        for items in (frozenset((2,)), frozenset((1, 5, 88)), frozenset(), None):
            for as_of in (2_000, 700, 300, 2_000):
                for start, end in ((0, as_of), (200, 600), (650, as_of)):
                    rows = part.span(start, min(end, as_of))
                    expected = [
                        row
                        for row in range(MANY)
                        if start <= part.at[row] <= min(end, as_of)
                        and part.void_at[row] > as_of
                        and (items is None or int(part.item[row]) in items)
                    ]
                    found = sold_of(part, items, rows, as_of)
                    where = (items, as_of, start, end)
                    self.assertEqual(found.places.tolist(), expected, where)
                    self.assertEqual(found.person.tolist(), part.person[expected].tolist(), where)
                    self.assertEqual(found.column("sum").tolist(), part.money[expected].tolist(), where)
                    self.assertEqual(
                        found.column("quantity").tolist(), part.quantity[expected].tolist(), where
                    )

    def test_at_the_second_it_is_voided_an_order_stands_no_longer(self) -> None:
        part = Lines.of(person=[0, 1], at=[5, 6], item=[3, 3], void_at=[20, 30])
        for as_of, expected in ((19, [0, 1]), (20, [1]), (29, [1]), (30, [])):
            found = sold_of(part, frozenset((3,)), part.span(0, as_of), as_of)
            self.assertEqual(found.person.tolist(), expected, as_of)

    def test_rows_taken_of_it_bring_their_own_columns(self) -> None:
        found = sold_of(book(6), frozenset((1, 2)), slice(0, MANY), 2_000)
        whole = found.column("sum").tolist()
        self.assertEqual(found.taken(np.array([3, 7])).column("sum").tolist(), [whole[3], whole[7]])
