"""Offers: codes, terms, and what they give at the till."""

import random
import unittest
from datetime import UTC, date, datetime

from hypothesis import given as over
from hypothesis import strategies as st

from loyalbell.core.offers.terms import (
    ALPHABET,
    Line,
    Names,
    OfferProblem,
    Terms,
    expires,
    given,
    make_code,
    read_terms,
    say_benefit,
    say_terms,
    tidy_code,
)

ZONE = "America/New_York"
CODES = st.integers(0, 2**40).map(lambda seed: make_code(random.Random(seed).randrange))


class Codes(unittest.TestCase):
    def test_no_sign_looks_like_another(self) -> None:
        """Common practice, no source: 0 O, 1 I L, 2 Z, 5 S, 8 B and U V are mistaken for one another."""
        self.assertFalse(set("0O1IL2Z5S8BUV") & set(ALPHABET))
        self.assertTrue(all(len(ALPHABET) % divisor for divisor in range(2, len(ALPHABET))))

    @over(CODES, st.integers(0, 9), st.sampled_from(ALPHABET))
    def test_a_wrong_sign_is_always_seen(self, code: str, at: int, sign: str) -> None:
        signs = code.replace("-", "")
        changed = signs[:at] + sign + signs[at + 1 :]
        self.assertEqual(tidy_code(changed), code if changed == signs else None)

    @over(CODES, st.integers(0, 8))
    def test_two_that_changed_places_are_always_seen(self, code: str, at: int) -> None:
        signs = code.replace("-", "")
        swapped = signs[:at] + signs[at + 1] + signs[at] + signs[at + 2 :]
        self.assertEqual(tidy_code(swapped), code if swapped == signs else None)

    @over(CODES)
    def test_a_code_is_read_as_people_type_it(self, code: str) -> None:
        self.assertEqual(tidy_code(f" {code.lower().replace('-', ' ')} "), code)


class Worth(unittest.TestCase):
    def test_per_cent_amount_and_item(self) -> None:
        bought = [Line(3_000, 1, "Food", 1), Line(1_999, 2, "Toys", 2)]
        for terms, expected in (
            (Terms(percent=10), 499),
            (Terms(percent=10, departments=(1,)), 300),
            (Terms(percent=50, categories=("Toys",), most=500), 500),
            (Terms(kind="amount", amount=2_500, items=(2,)), 1_999),
            (Terms(kind="amount", amount=2_500, least=5_000), 0),
            (Terms(percent=10, items=(9,)), 0),
        ):
            self.assertEqual(given(terms, bought).benefit, expected, terms)
        free = given(Terms(kind="item", item=7), bought, 1_400, 600)
        self.assertEqual((free.benefit, free.cost), (1_400, 600))

    @over(
        st.lists(st.integers(0, 50_000), max_size=5),
        st.integers(1, 100),
        st.integers(1, 5_000),
        st.sampled_from(("percent", "amount")),
    )
    def test_never_more_than_the_purchase_nor_than_the_most(
        self, lines: list[int], percent: int, most: int, kind: str
    ) -> None:
        terms = Terms.model_validate({"kind": kind, "percent": percent, "amount": 900, "most": most})
        found = given(terms, [Line(money) for money in lines])
        self.assertTrue(0 <= found.benefit <= min(most, sum(lines)))

    def test_it_ends_with_a_day_of_the_shop(self) -> None:
        issued = datetime(2026, 3, 7, 23, 30, tzinfo=UTC)
        self.assertEqual(
            expires(Terms(days=1), issued, ZONE), datetime(2026, 3, 9, 4, tzinfo=UTC)
        )  # clocks went on
        both = Terms(days=30, until=date(2026, 3, 8))
        self.assertEqual(expires(both, issued, ZONE), datetime(2026, 3, 9, 4, tzinfo=UTC))
        self.assertIsNone(expires(Terms(), issued, ZONE))

    def test_in_words(self) -> None:
        names = Names({7: "Oat shampoo"}, {1: "Groom room"})
        self.assertEqual(
            say_benefit(Terms(percent=15, departments=(1,)), "USD", names), "15 % off Groom room"
        )
        self.assertEqual(say_benefit(Terms(kind="item", item=7), "USD", names), "Oat shampoo free")
        self.assertEqual(
            say_terms(Terms(least=2_000, days=14), "USD"),
            "On $20.00 or more, 14 days from when it is given, once.",
        )
        for wrong in ({"kind": "amount"}, {"kind": "item"}, {"percent": 0}, {"days": "soon"}, {"x": 1}):
            with self.assertRaises(OfferProblem):
                read_terms(wrong)
