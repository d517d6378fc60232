"""The made-up people: the same every time, and true to the shares that are written down."""

import unittest
from math import sqrt

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.post_room import behaviour
from loyalbell.post_room.behaviour import Arrived, reactions, warmth

MANY = 20_000


def mail(at: int, links: int = 2) -> Arrived:
    return Arrived("email", at, f"p{at}@example.com", 1_000_000, links)


class People(unittest.TestCase):
    def share(self, kind: str, channel: str = "email") -> float:
        """Of many messages to as many people, those with such a reaction."""
        found = 0
        for at in range(MANY):
            arrived = Arrived(channel, at, f"p{at}@example.com", 0, 2)
            found += any(what.startswith(kind) for _, what in reactions(arrived))
        return found / MANY

    def near(self, found: float, expected: float) -> None:
        """Within four standard errors of a share of so many."""
        self.assertLess(abs(found - expected), 4 * sqrt(expected * (1 - expected) / MANY))

    def test_the_shares_are_those_that_are_written_down(self) -> None:
        # the scale 0.3 + 1.4 * warmth has the mean 1, and its square 1 + 1.4 ** 2 / 12
        bounced = behaviour.BOUNCES_HARD + (1 - behaviour.BOUNCES_HARD) * behaviour.BOUNCES_SOFT
        square = 1 + 1.4**2 / 12
        self.near(self.share("bounced"), bounced)
        self.near(self.share("opened"), (1 - bounced) * behaviour.OPENS)
        self.near(
            self.share("clicked"), (1 - bounced) * behaviour.OPENS * behaviour.CLICKS_OF_OPENED * square
        )
        self.near(self.share("fetched"), (1 - bounced) * behaviour.FETCHES_BY_ITSELF)
        self.near(self.share("failed", "text"), behaviour.TEXT_FAILS)
        self.near(self.share("stop", "text"), (1 - behaviour.TEXT_FAILS) * behaviour.TEXT_STOPS)

    @given(st.integers(0, 10**6), st.sampled_from(("email", "text", "chat")), st.integers(0, 5))
    def test_the_same_message_has_the_same_answer_and_nothing_comes_before_it(
        self, at: int, channel: str, links: int
    ) -> None:
        arrived = Arrived(channel, at, f"p{at}@example.com", 5_000, links, ["Yes", "No"])
        found = reactions(arrived)
        self.assertEqual(found, reactions(arrived))
        self.assertTrue(all(when > 5_000 for when, _ in found))
        self.assertEqual(found, sorted(found))
        if not links:
            self.assertFalse([what for _, what in found if what.startswith("clicked")])

    @given(st.text(max_size=30))
    def test_warmth_lies_between_nought_and_one(self, address: str) -> None:
        self.assertTrue(0 <= warmth(address) < 1)
