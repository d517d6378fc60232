"""What is worked out in the second process is what would be worked out here, whatever becomes of it."""

import os
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest.mock import patch

from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.plan import Plan, read_plan
from loyalbell.demo.messages import lapsed
from loyalbell.services.application import Application
from loyalbell.services.background_work import ResultCache, Superseded
from loyalbell.services.customers.erasure import erase
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.second_process import SecondProcess
from loyalbell.services.segments import size_over_time
from tests.support import ApplicationCase, wait_for

Progress = Callable[[float], None]


def count_people(application: Application, progress: Progress) -> tuple[int, int]:
    return os.getpid(), len(application.snapshot().people)


def go_wrong(application: Application, problem: Exception, progress: Progress) -> None:
    raise problem


def never_end(application: Application, progress: Progress) -> None:
    while True:
        progress(0.25)
        time.sleep(0.01)


def stay_where_it_is(application: Application, progress: Progress) -> tuple[int, Callable[[], int]]:
    """What is found cannot be sent."""
    return os.getpid(), lambda: 1


class NeedsTwo(Exception):
    """Cannot be put together again from its words."""

    def __init__(self, one: int, other: int) -> None:
        super().__init__(f"{one} and {other}")


class SecondProcessCase(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        for which in ("storage.snapshot.cache", "services.second_process"):
            worth = patch(f"loyalbell.{which}.WORTH_ROWS", 1)
            worth.start()
            self.addCleanup(worth.stop)
        self.people = [self.add_person(f"p{n}@example.com") for n in range(6)]
        for n, person in enumerate(self.people):
            for visit in range(n + 1):
                self.add_order(person, 170 - 20 * n - 9 * visit, 1_000 + n)
        self.second = self.application.beside = SecondProcess(self.application)

    def where(self) -> int:
        """The process in which something is worked out."""
        return self.application.work_out(count_people)[0]


class Beside(SecondProcessCase):
    def plan(self) -> Plan:
        letter = self.letter()
        return read_plan(
            {
                "start": {"on": "event"},
                "again": {"kind": "each"},
                "steps": [
                    {"do": "wait", "id": "w", "span": {"amount": 9, "unit": "days"}},
                    {"do": "message", "id": "m", "message": letter},
                ],
            }
        )

    def test_questions(self) -> None:
        """It stays the same process, sees what was written last, and its clock stands at the question."""
        there = self.where()
        self.assertNotEqual(there, os.getpid())
        self.add_person("new@example.com")
        self.assertEqual(self.application.work_out(count_people), (there, 7))
        self.assertEqual(self.application.work_out(now_there), self.clock.now())
        with self.assertRaisesRegex(RuleProblem, "Line 2 asks"):
            self.application.work_out(go_wrong, RuleProblem("Line 2 asks for a segment that is gone."))
        with self.assertRaisesRegex(RuntimeError, "NeedsTwo: 1 and 2"):
            self.application.work_out(go_wrong_by_two)
        self.assertEqual(self.where(), there)

    def test_the_answers_are_the_same(self) -> None:
        plan, rule = self.plan(), lapsed(60)

        def answers() -> tuple[Any, ...]:
            self.application.cache = ResultCache()
            years = wait_for(lambda: size_over_time.year(self.application, rule))
            return rehearsals.rehearse_past(self.application, plan), years

        there = answers()
        self.application.beside = None
        self.assertEqual(there, answers())
        self.application.beside = self.second
        self.assertGreater(there[0].figures.messages, 5)
        self.assertGreater(max(there[1]), 2)

    def test_the_book_is_closed_whole(self) -> None:
        self.where()
        child = self.second.awaited.child.process
        self.application.close()
        self.assertIsNotNone(child.returncode)
        self.assertTrue((self.folder / "columns.seal").exists())
        self.assertFalse((self.folder / "book.sqlite3-wal").exists())

    def test_who_erases_takes_the_files_away_once(self) -> None:
        """The second process follows what was erased, and touches no file."""
        self.where()
        erase(self.application, [self.people[0]], "Ida")
        self.assertEqual(self.application.work_out(people_on_file), 5)
        self.assertEqual(len(list(self.folder.glob("columns-*"))), 1)


class Here(SecondProcessCase):
    """When the other cannot do it, it is done in this process."""

    def test_a_small_book(self) -> None:
        for which in ("storage.snapshot.cache", "services.second_process"):
            with patch(f"loyalbell.{which}.WORTH_ROWS", 1_000_000):
                self.assertEqual(self.where(), os.getpid(), which)

    def test_while_the_other_is_busy(self) -> None:
        """What is worked out beforehand is in nobody's way; given up, it answers the next question."""
        there, stop, shares = self.where(), threading.Event(), []

        def told(share: float) -> None:
            shares.append(share)
            if stop.is_set():
                raise Superseded

        long = threading.Thread(target=self.given_up, args=(told,))
        long.start()
        wait_for(lambda: len(shares) > 1)
        beforehand = self.application.work_out(count_people, beforehand=True)[0]
        self.assertNotIn(beforehand, (there, os.getpid()))
        waiting = threading.Thread(target=self.given_up, args=(self.at_once,))
        waiting.start()
        waiting.join(10)
        self.assertFalse(waiting.is_alive(), "who no longer waits for the turn is gone")
        stop.set()
        long.join()
        self.assertEqual(set(shares), {0.25})
        self.assertEqual(self.where(), there)

    def at_once(self, share: float) -> None:
        raise Superseded

    def given_up(self, told: Callable[[float], None]) -> None:
        with self.assertRaises(Superseded):
            self.application.work_out(never_end, progress=told)

    def test_it_dies_in_the_midst(self) -> None:
        there = self.where()
        os.kill(there, signal.SIGKILL)
        self.assertEqual(self.application.work_out(count_people)[1], 6)
        pid, found = self.application.work_out(stay_where_it_is)
        self.assertEqual((pid, found()), (os.getpid(), 1))
        self.assertNotIn(self.where(), (there, os.getpid()))

    def test_it_numbers_people_otherwise(self) -> None:
        """This process has read the book anew after somebody was erased, the other keeps the gap."""
        self.where()
        erase(self.application, [self.people[0]], "Ida")
        self.application.work_out(count_people)
        self.application._snapshots._ledger = None
        self.assertEqual(self.application.work_out(count_people), (os.getpid(), 5))

    def test_nobody_needs_it_for_a_while(self) -> None:
        self.second.awaited.idle_seconds = 0.1
        there = self.where()
        wait_for(lambda: not Path(f"/proc/{there}").exists())
        self.assertNotEqual(self.where(), os.getpid())

    def test_the_program_ends_in_the_midst(self) -> None:
        self.where()
        long = threading.Thread(target=self.given_up, args=(lambda share: None,))
        long.start()
        wait_for(lambda: self.second.awaited.turn.locked())
        self.second.close()
        long.join(10)
        self.assertFalse(long.is_alive())

    def test_the_program_is_killed(self) -> None:
        self.where()
        child = self.second.awaited.child
        child.line.close()
        self.assertEqual(child.process.wait(10), 0)


def now_there(application: Application, progress: Progress) -> object:
    return application.clock.now()


def people_on_file(application: Application, progress: Progress) -> int:
    snapshot = application.snapshot()
    return int(snapshot.on_file(int(application.clock.now().timestamp())).sum())


def go_wrong_by_two(application: Application, progress: Progress) -> None:
    raise NeedsTwo(1, 2)
