"""Which message an order is put down to, held against a plain loop written from rules.md section 7."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.policy.send_policy import SendFacts, first_refusal
from loyalbell.core.results.attribution import DAY, Attributed, Reason, Touches, attribute

Touch = tuple[int, int, int]
"""Person, instant, delivery."""
touches = st.lists(
    st.tuples(st.integers(0, 3), st.integers(0, 12 * DAY), st.integers(1, 9)), max_size=12
).map(lambda rows: sorted(set(rows)))
orders = st.lists(st.tuples(st.integers(0, 3), st.integers(0, 20 * DAY)), max_size=10)


def columns(rows: list[Touch]) -> Touches:
    person, at, delivery = (np.array([row[place] for row in rows], dtype=np.int64) for place in range(3))
    return Touches(person.astype(np.int32), at, delivery)


def attributed(bought: list[tuple[int, int]], **kinds: list[Touch]) -> Attributed:
    person, at = (np.array([row[place] for row in bought], dtype=np.int64) for place in range(2))
    given = [(Reason[name.upper()], columns(rows)) for name, rows in kinds.items()]
    return attribute(person.astype(np.int32), at, given)


def by_hand(
    person: int, at: int, click: list[Touch], text: list[Touch], opened: list[Touch]
) -> tuple[int, int]:
    """The latest click within five days, else the latest text or chat, else the latest open."""
    for reason, rows in ((1, click), (2, text), (3, opened)):
        near = [
            (when, delivery) for who, when, delivery in rows if who == person and 0 <= at - when <= 5 * DAY
        ]
        if near:
            return max(near)[1], reason
    return -1, -1


class AttributionTest(unittest.TestCase):
    @given(orders, touches, touches, touches)
    def test_each_order_once_as_by_hand(
        self, bought: list[tuple[int, int]], click: list[Touch], text: list[Touch], opened: list[Touch]
    ) -> None:
        found = attributed(bought, open=opened, text=text, click=click)
        expected = [by_hand(person, at, click, text, opened) for person, at in bought]
        got = list(zip(found.delivery.tolist(), found.reason.tolist(), strict=True))
        self.assertEqual(got, expected)

    def test_both_edges_of_the_window_count(self) -> None:
        """rules.md section 7: the latest click within the window, five days by default."""
        for seconds, counts in ((0, True), (5 * DAY, True), (5 * DAY + 1, False), (-1, False)):
            with self.subTest(seconds=seconds):
                found = attributed([(1, 20 * DAY)], click=[(1, 20 * DAY - seconds, 7)])
                self.assertEqual(found.delivery.tolist(), [7 if counts else -1])

    def test_opens_count_only_where_they_are_given(self) -> None:
        self.assertEqual(attributed([(1, 3 * DAY)]).delivery.tolist(), [-1])
        found = attributed([(1, 3 * DAY)], open=[(1, DAY, 7)])
        self.assertEqual((found.delivery.tolist(), found.reason.tolist()), ([7], [Reason.OPEN]))

    def test_the_latest_click_wins_over_a_later_text(self) -> None:
        found = attributed([(1, 5 * DAY)], click=[(1, DAY, 7), (1, 2 * DAY, 8)], text=[(1, 4 * DAY, 9)])
        self.assertEqual((found.delivery.tolist(), found.reason.tolist()), ([8], [Reason.CLICK]))


class Refusals(unittest.TestCase):
    def test_the_first_reason_in_the_settled_order(self) -> None:
        """The order of refusals: closed marks, suppression, consent, then the address."""
        worst = SendFacts(deceased=True, closed=True, suppressed=True, consent="refused", address=None)
        self.assertEqual(first_refusal(worst), "deceased")
        for consent, cause in (
            ("refused", "refused"),
            ("waiting", "waiting"),
            ("never asked", "never asked"),
        ):
            self.assertEqual(first_refusal(SendFacts(False, False, False, consent, "a@example.com")), cause)
        self.assertEqual(
            first_refusal(SendFacts(False, False, True, "agreed", "a@example.com")), "suppressed"
        )
        self.assertEqual(first_refusal(SendFacts(False, False, False, "agreed", None)), "no address")
        self.assertIsNone(first_refusal(SendFacts(False, False, False, "agreed", "a@example.com")))
