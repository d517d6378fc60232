"""The newest question of an asker, answered in the background."""

import unittest
from collections.abc import Callable
from threading import Event

from structlog.testing import capture_logs

from loyalbell.services.cached_work import MOST_ASKERS, BackgroundResults, LatestRequest, Superseded


class LatestTest(unittest.TestCase):
    def test_it_is_answered_at_once_or_later_and_only_once(self) -> None:
        latest, go = LatestRequest[str](), Event()
        works: list[str] = []

        def work(go_on: Callable[[float], None]) -> str:
            works.append("begun")
            go.wait(10)
            return "found"

        self.assertIsNone(latest.ask("ida", "q", work, 0.01))
        self.assertIsNone(latest.ask("ida", "q", work, 0.01))
        go.set()
        self.assertEqual(latest.ask("ida", "q", work, 10), "found")
        self.assertEqual(works, ["begun"], "asked three times, worked out once")
        self.assertEqual(latest.ask("ida", "q", work, 10), "found")
        self.assertEqual(len(works), 2, "an answer is handed out once, so that it never grows old")

    def test_a_newer_question_ends_the_work_on_the_older(self) -> None:
        latest, go, ended = LatestRequest[str](), Event(), Event()

        def older(go_on: Callable[[float], None]) -> str:
            go.wait(10)
            try:
                go_on(0.5)
            except Superseded:
                ended.set()
                raise
            return "older"

        self.assertIsNone(latest.ask("ida", "older", older, 0.01))
        self.assertEqual(latest.ask("ida", "newer", lambda go_on: "newer", 10), "newer")
        go.set()
        self.assertTrue(ended.wait(10))
        self.assertEqual(latest.ask("bo", "older", lambda go_on: "of bo", 10), "of bo")

    def test_those_who_never_come_for_their_answer_are_forgotten(self) -> None:
        latest = LatestRequest[str]()
        go = Event()

        def slow(go_on: Callable[[float], None]) -> str:
            go.wait(10)
            return "slow"

        for number in range(MOST_ASKERS + 5):
            self.assertIsNone(latest.ask(number, "q", slow, 0))
        self.assertEqual(len(latest._asked), MOST_ASKERS)
        go.set()
        self.assertEqual(latest.ask(MOST_ASKERS + 4, "q", slow, 10), "slow", "the newest are kept")

    def test_what_goes_wrong_is_said_to_who_asked(self) -> None:
        latest = LatestRequest[str]()

        def wrong(go_on: Callable[[float], None]) -> str:
            raise ValueError("no such rule")

        for _ in range(2):
            with self.assertRaisesRegex(ValueError, "no such rule"):
                latest.ask("ida", "q", wrong, 10)


class BehindTest(unittest.TestCase):
    def test_it_keeps_the_newest_and_says_otherwise_where_something_goes_wrong(self) -> None:
        behind, works = BackgroundResults[str](1, "otherwise"), list[str]()

        def work(name: str) -> str:
            works.append(name)
            if name == "wrong":
                raise ValueError(name)
            return name

        self.assertEqual([behind.get(one, lambda one=one: work(one), wait=True) for one in ("a", "a", "b", "a")], ["a", "a", "b", "a"])  # type: ignore[misc]  # fmt: skip
        self.assertEqual(works, ["a", "b", "a"])
        with capture_logs() as logs:
            self.assertEqual(behind.get("wrong", lambda: work("wrong"), wait=True), "otherwise")
        self.assertEqual([one["log_level"] for one in logs], ["error"])


if __name__ == "__main__":
    unittest.main()
