import unittest

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.policy.send_policy import SendFacts, first_refusal
from loyalbell.core.results.attribution import DAY, Bought, Response, attribute

engagements = st.dictionaries(
    st.integers(1, 3),
    st.lists(
        st.builds(Response, st.integers(1, 4), st.integers(0, 12 * DAY)), max_size=5, unique_by=lambda r: r.at
    ),
)
bought = st.lists(
    st.builds(Bought, st.integers(1, 9), st.integers(1, 3), st.integers(0, 20 * DAY), st.just(100)),
    unique_by=lambda b: b.order,
)


class Attribution(unittest.TestCase):
    @given(bought, engagements, engagements)
    def test_each_order_once_to_the_latest_click_else_open(self, orders, clicks, opens) -> None:
        found = attribute(orders, clicks, opens, window_days=5)
        for order in orders:
            expected = None
            for table in (opens, clicks):  # clicks last: they win
                best = -1
                for response in table.get(order.person, []):
                    if 0 <= order.at - response.at <= 5 * DAY and response.at > best:
                        best, expected = response.at, response.origin
            self.assertEqual(found.get(order.order), expected)

    def test_both_edges_of_the_window_count(self) -> None:
        """rules.md section 7: the latest click within the window, five days by default."""
        for seconds, counts in ((0, True), (5 * DAY, True), (5 * DAY + 1, False), (-1, False)):
            with self.subTest(seconds=seconds):
                order = Bought(1, 1, 20 * DAY, 100)
                found = attribute([order], {1: [Response(7, order.at - seconds)]})
                self.assertEqual(found, {1: 7} if counts else {})

    def test_opens_count_only_where_they_are_given(self) -> None:
        order = Bought(1, 1, 3 * DAY, 100)
        self.assertEqual(attribute([order], {}), {})
        self.assertEqual(attribute([order], {}, {1: [Response(7, DAY)]}), {1: 7})


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
