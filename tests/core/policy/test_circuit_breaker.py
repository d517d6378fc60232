"""The circuit breaker of a channel: Nygard, *Release It!* (closed, open, half-open); our own numbers."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.policy.circuit_breaker import FIRST_PAUSE, LONGEST_LIMIT, LONGEST_PAUSE, Circuit

NOW, USUAL = 1_780_000_000, 50


class CircuitBreakerTest(unittest.TestCase):
    def test_closed_lets_the_usual_number_go(self) -> None:
        self.assertEqual(Circuit().batch(NOW, USUAL), USUAL)

    def test_after_a_fault_nothing_goes_then_one_is_tried_then_all(self) -> None:
        broken = Circuit().failed(NOW, "530 sign in")
        self.assertEqual(broken.batch(NOW, USUAL), 0)
        self.assertEqual(broken.batch(NOW + FIRST_PAUSE - 1, USUAL), 0)
        self.assertEqual(broken.batch(NOW + FIRST_PAUSE, USUAL), 1, "half open")
        mended = broken.accepted(NOW + FIRST_PAUSE, USUAL)
        self.assertEqual((mended.is_open, mended.batch(NOW + FIRST_PAUSE, USUAL)), (False, USUAL))

    def test_pauses_double_up_to_a_quarter_of_an_hour_and_since_stays(self) -> None:
        broken, now, pauses = Circuit(), NOW, []
        for _ in range(8):
            broken = broken.failed(now, "no connection")
            pauses.append(broken.try_at - now)
            now = broken.try_at
        self.assertEqual(pauses, [30, 60, 120, 240, 480, 900, 900, 900])
        self.assertEqual(broken.since, NOW, "not accepted since the first of them")

    def test_what_the_network_asks_for_is_kept_within_reason(self) -> None:
        self.assertEqual(Circuit().failed(NOW, "", 600).try_at, NOW + 600)
        self.assertEqual(Circuit().failed(NOW, "", 10**6).try_at, NOW + LONGEST_LIMIT)
        self.assertEqual(Circuit().limited(NOW, 10, 7).try_at, NOW + 7)

    def test_a_limit_slows_down_and_is_no_fault(self) -> None:
        slower = Circuit().limited(NOW, 10)
        self.assertEqual((slower.is_open, slower.batch(slower.try_at, USUAL)), (False, 5))
        self.assertEqual(slower.batch(NOW, USUAL), 0)
        self.assertEqual(Circuit().limited(NOW, 0).batch(NOW + 1, USUAL), 1, "never none at all")

    def test_the_rate_finds_its_way_back(self) -> None:
        circuit, now = Circuit().limited(NOW, 20), NOW
        for _ in range(USUAL):
            now = max(now, circuit.try_at)
            circuit = circuit.accepted(now, USUAL)
        self.assertEqual(circuit, Circuit())

    @given(st.lists(st.sampled_from(["accepted", "failed", "limited"]), max_size=40), st.integers(0, 60))
    def test_it_never_waits_for_ever(self, answers: list[str], handed: int) -> None:
        circuit, now = Circuit(), NOW
        for answer in answers:
            now = max(now, circuit.try_at)
            self.assertGreaterEqual(circuit.batch(now, USUAL), 1)
            if answer == "accepted":
                circuit = circuit.accepted(now, USUAL)
            elif answer == "failed":
                circuit = circuit.failed(now, "no")
            else:
                circuit = circuit.limited(now, handed)
            self.assertLessEqual(circuit.try_at - now, max(LONGEST_PAUSE, LONGEST_LIMIT))
