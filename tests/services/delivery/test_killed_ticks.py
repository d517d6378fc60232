"""The process is killed at random moments during ticks and sends, fifty times: nothing is lost, nothing goes
twice.
"""

import os
import random
import signal
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from sqlalchemy import func, select

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.application import Application
from loyalbell.services.delivery import after_stop
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.commands import keep
from loyalbell.storage.schema import Delivery, Enrolment
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase
from tests.support import StillClock

PEOPLE, KILLS = 260, 50


class NetworkOnDisk(Sender):
    """Takes a message by writing its id to a file; can be asked afterwards what it took."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        found = []
        for one in batch:
            with self.path.open("a") as file:
                file.write(one.message_id + "\n")
                file.flush()
                os.fsync(file.fileno())
            found.append(Outcome(one.delivery_id, "accepted", "250 OK"))
            time.sleep(0.001)
        return found

    def knows(self, message_id: str, channel: str = "email") -> bool:
        return self.path.exists() and message_id in self.path.read_text().split()


class KilledTicksTest(SequenceCase):
    def test_fifty_kills(self) -> None:
        self.care(guard_floor=10_000, limits=[], quiet_begins="", quiet_ends="")
        people = [self.add_person(f"p{at}@example.com") for at in range(PEOPLE)]
        steps = [
            self.message("m"),
            {"do": "hand off", "id": "h", "list": "All"},
            self.message("n"),
        ]
        made = keep(
            self.application, None, "Killed", read_plan({"start": AFTER_AN_ORDER, "steps": steps}), "Ida"
        )
        publishing.publish(self.application, made, publishing.Choices(), "Ida", normal=10_000)
        self.clock.move_on(HOUR)
        for person in people:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        network, rng = NetworkOnDisk(self.folder / "taken"), random.Random(7)
        self.application.database.engine.dispose()
        kills = done = 0
        while kills < KILLS and not done:
            done = self.run_in_child(network, rng.uniform(0.01, 0.35))
            kills += 1 - done
            if done:
                self.more_work(people[: 60 - kills], kills)
                done = 0 if kills < KILLS else 1
        self.settle(network)
        self.check(network, kills)

    def more_work(self, people: list[int], turn: int) -> None:
        """Everything was sent before it could be killed: let others come in, so that there is something to
        kill.
        """
        fresh = [self.add_person(f"t{turn}-{at}-{random.random()}@example.com") for at in range(len(people))]
        for person in fresh:
            self.add_order(person, 0)
        self.clock.move_on(HOUR)
        self.application.database.engine.dispose()

    def run_in_child(self, network: NetworkOnDisk, seconds: float) -> int:
        """1 where the child came to the end by itself, 0 where it was killed."""
        child = os.fork()
        if child == 0:
            application = Application(self.folder, StillClock(self.clock.now()))
            after_stop.mend_after_stop(application, network)
            while tick(application, network):
                pass
            os._exit(0)
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            finished, _ = os.waitpid(child, os.WNOHANG)
            if finished:
                return 1
            time.sleep(0.005)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        return 0

    def settle(self, network: NetworkOnDisk) -> None:
        after_stop.mend_after_stop(self.application, network)
        while tick(self.application, network):
            pass

    def check(self, network: NetworkOnDisk, kills: int) -> None:
        taken = Counter(network.path.read_text().split())
        self.assertGreaterEqual(kills, KILLS)
        self.assertEqual(max(taken.values()), 1, "nothing twice")
        with self.application.database.reading() as session:
            came = session.scalar(select(func.count()).select_from(Enrolment))
            states = dict(
                session.execute(select(Delivery.state, func.count()).group_by(Delivery.state)).all()
            )
            enrolments = dict(
                session.execute(select(Enrolment.state, func.count()).group_by(Enrolment.state)).all()
            )
        self.assertEqual(enrolments, {"finished": came})
        self.assertEqual(states, {"sent": 2 * (came or 0)}, "nothing lost")
        self.assertEqual(len(taken), 2 * (came or 0))
