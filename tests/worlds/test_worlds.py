"""Some of the random worlds in every run of the tests; all of them with ``make worlds``."""

import unittest
from datetime import UTC, datetime, timedelta

from tests.services.sequences.test_runner import SequenceCase
from tests.worlds.oracle import HandOver, PersonTold, StepTold, WorldTold, wrongs
from tests.worlds.world import World

SOME = 20
AT = datetime(2026, 5, 12, 15, 0, tzinfo=UTC)


class WorldCase(SequenceCase):
    """One book on which world after world is lived."""

    def setUp(self) -> None:
        super().setUp()
        self.letter()

    def tearDown(self) -> None:
        self.sender.handed.clear()
        super(SequenceCase, self).tearDown()


class SomeWorldsTest(WorldCase):
    def test_nothing_forbidden_happens(self) -> None:
        handed = 0
        for seed in range(SOME):
            world = World(self, seed)
            told = world.live()
            handed += len(told.handed)
            self.assertEqual(list(wrongs(told)), [], f"world {seed}")
        self.assertGreater(handed, SOME, "worlds in which nothing is sent judge nothing")


class OracleTest(unittest.TestCase):
    """The oracle sees each wrong: one that could not fail would judge nothing."""

    def told(self, *handed: HandOver, **rules: object) -> list[str]:
        person = PersonTold("America/New_York", [(AT - timedelta(days=9), "agreed")])
        world = WorldTold(("21:00", "08:00"), set(), [], {1: person}, {(1, "m"): StepTold()}, {1: None})
        for name, value in rules.items():
            setattr(person if hasattr(person, name) else world, name, value)
        world.handed = list(handed)
        return [one.partition(": ")[2] for one in wrongs(world)]

    def one(self, hours: float = 0, step: str = "m", said: str = "accepted") -> HandOver:
        return HandOver(AT + timedelta(hours=hours), 1, 1, step, "k", AT - timedelta(days=1), said)

    def test_nothing_wrong(self) -> None:
        self.assertEqual(self.told(self.one()), [])

    def test_each_wrong_is_seen(self) -> None:
        noon = AT.astimezone(UTC)
        exact = {(1, "m"): StepTold("exact", begins="10:00")}
        days = {(1, "m"): StepTold(), (1, "n"): StepTold(after="m", wait_days=2)}
        for rules, handed, words in (
            ({"consent": []}, [self.one()], "without their consent"),
            ({"consent": [(AT, "refused")]}, [self.one()], "without their consent"),
            ({"suppressed": [(AT, None)]}, [self.one()], "although suppressed"),
            ({"closed": AT}, [self.one()], "account is closed"),
            ({}, [self.one(hours=11)], "in quiet hours, at 22:00"),
            ({"closed_days": {noon.date()}}, [self.one()], "closed day"),
            ({"steps": {(1, "m"): StepTold("window", (2,))}}, [self.one()], "on weekday 1"),
            ({"steps": {(1, "m"): StepTold("window", ends="10:30")}}, [self.one()], "outside its window"),
            ({"steps": exact}, [self.one()], "not at its exact time"),
            ({"silent": [(AT, None)]}, [self.one()], "while silent"),
            ({"paused": {1: [(AT, None)]}}, [self.one()], "while paused"),
            ({"birthdays": {1}, "birthday": (5, 11)}, [self.one()], "birthday greeting on 12 May"),
            ({"caps": [(1, 1)]}, [self.one(), self.one(3, "n")], "above the limit"),
            ({}, [self.one(said="unsure"), self.one(3)], "a second time"),
            ({"ends_with_orders": {1: 0}, "orders": [AT]}, [self.one()], "they had bought since"),
            ({"ends_with_orders": {1: 1}, "orders": [AT]}, [self.one()], "had come true"),
            ({"steps": days}, [self.one(), self.one(1, "n")], "after the message before"),
        ):
            with self.subTest(words=words):
                rules.setdefault("steps", {(1, "m"): StepTold(), (1, "n"): StepTold()})  # type: ignore
                said = self.told(*handed, **rules)
                self.assertTrue(any(words in one for one in said), said)
