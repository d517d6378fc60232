"""Items per person, against a small made-up book and pandas."""

import unittest
from collections import Counter
from unittest.mock import patch

import numpy as np
import pandas as pd
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.history.snapshot import Catalogue, HistorySnapshot, Lines, People
from loyalbell.core.messages.item_lists import (
    BEST_DAYS,
    LIFT,
    NEW_DAYS,
    SUPPORT,
    Shelf,
    Stock,
    item_keys,
    named_items,
)
from tests.support import NOW, ZONE

SECONDS, DAY = int(NOW.timestamp()), 86_400
NAMES = {
    1: ("Oat shampoo", "Grooming", 1),
    2: ("Brush", "Grooming", 1),
    3: ("Ball", "Toys", 2),
    4: ("Rope", "Toys", 2),
}
STOCK = {
    1: Stock("Grooming", 30, True),
    2: Stock("Grooming", None, True),
    3: Stock("Toys", None, True),
    4: Stock("Toys", None, False),
}
BOUGHT = st.lists(st.tuples(st.integers(0, 11), st.integers(1, 4), st.integers(0, 300)), max_size=80)


def shelf(rows: list[tuple[int, int, int]]) -> Shelf:
    """Rows of (person, item, days ago)."""
    rows = sorted(rows, key=lambda row: -row[2])
    table = np.array(rows, dtype=np.int64).reshape(-1, 3)
    lines = Lines.of(
        person=table[:, 0], item=table[:, 1], at=SECONDS - table[:, 2] * DAY, key=np.arange(len(rows))
    )
    people = People.of(np.arange(1, 13), [-(2**40)] * 12)
    return Shelf(
        HistorySnapshot(ZONE, "USD", people, lines=lines, catalogue=Catalogue(items=NAMES)), SECONDS, STOCK
    )


def items(found: list) -> list[int]:
    return [one.item for one in found]


class NamedItems(unittest.TestCase):
    """Codes, ids and names in a field, with any usual separator."""

    NAMES = {1: "Oat shampoo", 2: "Salt, pepper and oil", 3: "Tea/coffee set", 7: "Ball"}
    CODED = {at: Stock("", None, True, f"OT-00{at}") for at in NAMES}

    def found(self, value: object) -> tuple[list[int], list[str]]:
        return named_items(value, item_keys(self.NAMES, self.CODED))

    def test_any_usual_separator(self) -> None:
        """Seen: ``OT-001;OT-002`` silently became best sellers."""
        for text in (
            "OT-001;OT-002",
            "OT-001, OT-002",
            "ot-001,OT-002",
            "OT-001 | OT-002",
            "OT-001\nOT-002",
            "OT-001/OT-002",
            "OT-001 OT-002",
            "OT-001 & OT-002",
            "OT-001\tOT-002;",
            "1, 2",
            ["OT-001", "Salt, pepper and oil"],
            "Oat shampoo; Salt, pepper and oil",
            "Oat shampoo, OT-002, 1",
        ):
            with self.subTest(text=text):
                self.assertEqual(self.found(text), ([1, 2], []))

    def test_a_separator_within_a_name_does_not_part_it(self) -> None:
        self.assertEqual(self.found("Tea/coffee set"), ([3], []))
        self.assertEqual(self.found("tea/coffee set; ball"), ([3, 7], []))
        self.assertEqual(self.found("Oat shampoo"), ([1], []))

    def test_what_is_not_in_the_catalogue_is_said(self) -> None:
        self.assertEqual(self.found("OT-001;OT-999"), ([1], ["OT-999"]))
        self.assertEqual(self.found("a kind word"), ([], ["a kind word"]))
        self.assertEqual(self.found(None), ([], []))
        self.assertEqual(self.found("  ; , "), ([], []))

    def test_a_name_goes_before_a_code_and_a_code_before_a_number(self) -> None:
        keys = item_keys({1: "2", 2: "Brush", 3: "Rope"}, {3: Stock("", None, True, "1")})
        self.assertEqual(named_items("2", keys)[0], [1])
        self.assertEqual(named_items("1", keys)[0], [3])

    @given(st.text(alphabet="OT-01;,/ |&\n9", max_size=60))
    def test_every_piece_is_found_or_said(self, text: str) -> None:
        found, unknown = self.found(text)
        self.assertTrue(set(found) <= set(self.NAMES))
        self.assertEqual(bool(found or unknown), bool(text.strip(" ;,\n|/&")) or bool(unknown))


class Lists(unittest.TestCase):
    def test_what_they_bought_the_newest_first(self) -> None:
        book = shelf([(0, 1, 40), (0, 2, 9), (0, 1, 3), (1, 3, 1)])
        self.assertEqual(items(book.bought(0)), [1, 2])
        self.assertEqual(items(book.bought(5)), [])

    def test_what_others_bought_after_what_they_bought_last(self) -> None:
        """Counted by hand: after a brush two bought a ball, one shampoo; the person has shampoo already."""
        rows = [(1, 2, 50), (1, 3, 20), (2, 2, 50), (2, 3, 30), (3, 2, 50), (3, 1, 10), (0, 1, 90), (0, 2, 5)]
        self.assertEqual(items(shelf(rows).next(0)), [3])
        self.assertEqual(shelf(rows).next(0)[0].why, "2 people bought it after Brush")
        self.assertEqual(items(shelf([]).next(0)), [])

    def test_due_for_refill(self) -> None:
        for ago, due in ((10, False), (22, False), (23, True), (45, True), (60, True), (61, False)):
            self.assertEqual(items(shelf([(0, 1, ago)]).refill(0)), [1] if due else [], ago)
        self.assertEqual(shelf([(0, 1, 45)]).refill(0)[0].why, "bought 45 days ago, lasts about 30")

    def test_what_they_have_and_what_is_out_of_stock_is_left_out(self) -> None:
        book = shelf(
            [(person, 4, 5) for person in range(9)] + [(person, 3, 5) for person in range(5)] + [(9, 2, 5)]
        )
        self.assertEqual(items(book.choose("best", 9, 3)), [3])  # the rope sells best, and is out of stock
        self.assertEqual(items(book.choose("best", 0, 3)), [2])

    def test_new_in_their_category(self) -> None:
        book = shelf([(0, 1, 300), (0, 1, 200), (0, 3, 200), (5, 2, 10), (5, 4, 10)])
        self.assertEqual(items(book.new(0)), [2])
        self.assertEqual(items(book.choose("new", 0, 1)), [2])

    def test_a_list_of_their_own_and_the_fallback(self) -> None:
        book = shelf([(5, 3, 10)])
        self.assertEqual(items(book.choose("field", 0, 3, ["ball", "Unknown", "brush"], False)), [3, 2])
        self.assertEqual(items(book.choose("refill", 0, 2)), [3])
        self.assertEqual(book.choose("refill", 0, 2, fallback=False), [])

    def test_whoever_came_in_since_has_bought_nothing(self) -> None:
        book = shelf([(11, 3, 10)])
        self.assertEqual(items(book.bought(11)), [3])
        self.assertEqual(book.bought(12), [])
        self.assertEqual(items(book.choose("bought", 12, 2)), [3])

    def test_pairs_are_counted_alike_some_people_at_a_time(self) -> None:
        """Eight of eleven buyers bought both: 8 x 11 / (8 x 8) times as often as by chance."""
        rows = [(person, item, 9) for person in range(8) for item in (1, 3)]
        rows += [(person, 2, 9) for person in (8, 9, 10)]
        for some in (1, 3, 5, 100):
            with patch("loyalbell.core.messages.item_lists.AT_ONCE", some):
                self.assertEqual(shelf(rows)._together(), {1: [(1.375, 8, 3)], 3: [(1.375, 8, 1)]}, some)

    @given(BOUGHT)
    def test_the_newest_and_the_best_of_a_plain_count(self, rows: list) -> None:
        book, items_sold = shelf(rows), {item for _, item, _ in rows}
        first = {item: max(ago for _, one, ago in rows if one == item) for item in items_sold}
        fresh = sorted((ago, item) for item, ago in first.items() if ago < NEW_DAYS)
        self.assertEqual(book._newest(), [item for _, item in fresh])
        lately = {(item, person) for person, item, ago in rows if ago < BEST_DAYS}
        buyers = Counter(item for item, _ in lately)
        best = sorted(buyers, key=lambda item: (-buyers[item], item))
        self.assertEqual(items(book.best(99)), best)

    @given(BOUGHT)
    def test_lift_is_that_of_the_plain_count(self, rows: list[tuple[int, int, int]]) -> None:
        """Lift as usually defined: P(both) / (P(one) P(other)), over the people who bought anything."""
        frame = pd.DataFrame(rows, columns=["person", "item", "ago"]).drop_duplicates(["person", "item"])
        buyers, found = frame.person.nunique(), shelf(rows)._together()
        for one in range(1, 5):
            expected = set()
            for other in range(1, 5):
                with_one, with_other = (set(frame[frame.item == at].person) for at in (one, other))
                both = len(with_one & with_other)
                if one != other and both >= SUPPORT:
                    lift = (both / buyers) / (len(with_one) / buyers * len(with_other) / buyers)
                    if abs(lift - LIFT) < 1e-6:
                        return
                    if lift >= LIFT:
                        expected.add((round(lift, 4), both, other))
            self.assertEqual(
                {(round(lift, 4), both, other) for lift, both, other in found.get(one, [])}, expected
            )

    @given(
        BOUGHT, st.integers(0, 11), st.sampled_from(("refill", "goes with", "new", "best")), st.integers(1, 4)
    )
    def test_never_too_many_never_twice_never_out_of_stock(
        self, rows: list, person: int, which: str, most: int
    ) -> None:
        found = items(shelf(rows).choose(which, person, most))
        self.assertLessEqual(len(found), most)
        self.assertEqual(len(set(found)), len(found))
        self.assertNotIn(4, found)
        if which in ("goes with", "new", "best"):
            self.assertFalse(set(found) & {item for who, item, _ in rows if who == person})
