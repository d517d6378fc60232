"""Results are worked out once and kept within bounds.

The newest question of an asker is answered behind the page.
"""

import ast
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Event, Thread
from unittest import mock

from structlog.testing import capture_logs

from loyalbell.services import background_work
from loyalbell.services.background_work import (
    MOST_ASKERS,
    BackgroundResults,
    Jobs,
    LatestRequest,
    ResultCache,
    Superseded,
)
from loyalbell.services.give_way import MAY_BE_OLD
from tests.support import wait_for


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


class BackgroundResultsTest(unittest.TestCase):
    def test_what_is_given_up_is_no_problem_and_no_answer(self) -> None:
        """As the program ends, or where something newer is asked for."""

        def give_up(*_: object) -> list[int]:
            raise Superseded

        background, jobs = BackgroundResults(), Jobs()
        self.assertIsNone(background.get("topic", 1, give_up, [], most=2, wait=True))
        self.assertEqual(background.get("topic", 1, lambda: [7], [], most=2, wait=True), [7])
        jobs.start("job", give_up)
        wait_for(lambda: jobs.find("job").done)
        self.assertEqual([*background.problems, *jobs.problems], [])

    def test_memory_goes_back_once_the_work_is_done(self) -> None:
        background, jobs = BackgroundResults(), Jobs()
        with mock.patch.object(background_work, "hand_back") as hand_back:
            background.get("topic", 1, lambda: [7], [], most=2, wait=True)
            self.assertEqual(hand_back.call_count, 1)
            jobs.start("job", lambda _: None)
            wait_for(lambda: hand_back.call_count == 2)

    def test_it_keeps_the_newest_and_says_otherwise_where_something_goes_wrong(self) -> None:
        background, works = BackgroundResults(), list[str]()

        def ask(name: str) -> str | None:
            def work() -> str:
                works.append(name)
                if name == "wrong":
                    raise ValueError(name)
                return name

            return background.get("topic", name, work, "otherwise", most=1, wait=True)

        self.assertEqual([ask(name) for name in ("a", "a", "b", "a")], ["a", "a", "b", "a"])
        self.assertEqual(works, ["a", "b", "a"])
        with capture_logs() as logs:
            self.assertEqual(ask("wrong"), "otherwise")
        self.assertEqual([one["log_level"] for one in logs], ["error"])
        self.assertEqual([problem.words for problem in background.problems], ["ValueError: wrong"])


class ResultCacheTest(unittest.TestCase):
    def test_each_is_worked_out_once_even_if_many_ask_at_once(self) -> None:
        cache, works, go = ResultCache(), list[int](), Event()

        def work() -> int:
            works.append(1)
            go.wait(10)
            return 7

        with ThreadPoolExecutor(8) as pool:
            asked = [pool.submit(cache.get, "topic", "key", work) for _ in range(8)]
            go.set()
            self.assertEqual([one.result() for one in asked], [7] * 8)
        self.assertEqual(works, [1])

    def test_what_goes_wrong_is_raised_and_worked_out_again(self) -> None:
        cache = ResultCache()

        def wrong() -> int:
            raise ValueError("no")

        with self.assertRaises(ValueError):
            cache.get("topic", "key", wrong)
        self.assertIsNone(cache.peek("topic", "key"))
        self.assertEqual(cache.get("topic", "key", lambda: 3), 3)

    def test_a_topic_is_bounded_and_keeps_what_was_used_last(self) -> None:
        cache = ResultCache()
        for key in ("a", "b", "a", "c"):
            cache.get("topic", key, lambda key=key: key, 2)  # type: ignore[misc]
        self.assertEqual([cache.peek("topic", key) for key in "abc"], ["a", None, "c"])
        self.assertIsNone(cache.peek("another topic", "a"))

    def test_a_newer_state_of_the_book_drops_the_older(self) -> None:
        cache = ResultCache()
        cache.of_version("topic", 1, "key", lambda: "old")
        self.assertEqual(cache.of_version("topic", 2, "key", lambda: "new"), "new")
        self.assertIsNone(cache.peek_version("topic", 1, "key"))
        self.assertEqual(cache.peek_version("topic", 2, "key"), "new")

    def test_whoever_asks_late_about_an_older_state_gets_it_and_the_newer_stays(self) -> None:
        cache = ResultCache()
        cache.of_version("topic", 2, "key", lambda: "new")
        self.assertEqual(cache.of_version("topic", 1, "key", lambda: "old"), "old")
        self.assertEqual(cache.peek_version("topic", 2, "key"), "new")


class NoOtherCacheTest(unittest.TestCase):
    def test_no_module_of_services_or_pages_keeps_results_of_its_own(self) -> None:
        """A dictionary or list of a module that is written to grows with the shop and knows no state of the
        book.
        """
        package = Path(__file__).resolve().parents[2] / "loyalbell"
        found = []
        for part in ("services", "web"):
            for file in (package / part).rglob("*.py"):
                for node in ast.parse(file.read_text(encoding="utf-8")).body:
                    value = node.value if isinstance(node, (ast.Assign, ast.AnnAssign)) else None
                    empty = isinstance(value, (ast.Dict, ast.List)) and not ast.unparse(value).strip("{}[]")
                    if empty:
                        found.append(f"{file.relative_to(package)}: {ast.unparse(node)}")
        self.assertEqual(found, [])


class RecentFigures(unittest.TestCase):
    def asked(self, cache: ResultCache, version: int, may_be_old: bool) -> int:
        token = MAY_BE_OLD.set(may_be_old)
        try:
            return cache.of_version("figures", version, "key", lambda: version)
        finally:
            MAY_BE_OLD.reset(token)

    def test_only_who_may_see_old_figures_does_and_not_for_long(self) -> None:
        cache = ResultCache()
        self.assertEqual(self.asked(cache, 1, True), 1)
        self.assertEqual(self.asked(cache, 2, True), 1, "a moment old")
        self.assertEqual(self.asked(cache, 2, False), 2, "whoever acts sees the newest")
        with mock.patch.object(background_work, "OLD_SECONDS", 0.0):
            self.assertEqual(self.asked(cache, 3, True), 3, "too old by now")
        self.assertEqual(self.asked(cache, 4, True), 3)
        cache.forget_recent()
        self.assertEqual(self.asked(cache, 4, True), 4, "somebody has changed something")


if __name__ == "__main__":
    unittest.main()


class WaitedForOnce(unittest.TestCase):
    def test_who_looks_again_waits_the_rest(self) -> None:
        """Seen: each look at Duplicates waited its whole moment, as long as the book was looked through."""
        results, is_over, waited = BackgroundResults(), Event(), list[float | None]()

        class Waited(Thread):
            def join(self, timeout: float | None = None) -> None:
                waited.append(timeout)

        times = iter([100.0, 100.0, 103.0, 109.0])
        with (
            mock.patch.object(background_work, "Thread", Waited),
            mock.patch.object(background_work.time, "monotonic", lambda: next(times)),
        ):
            for _ in range(3):
                self.assertIsNone(results.get("topic", 1, is_over.wait, False, 2, 5.0))
        is_over.set()
        self.assertEqual(waited, [5.0, 2.0, 0.0])
