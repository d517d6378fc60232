"""``python -m tests.kills [how many]``: kill -9 at random instants while mails and texts are handed over.

The mail server and the text network are the post room, in a process of its own. The mail server cannot be
asked what it took, the text network can. Lost must be 0, twice 0, and in doubt after a kill at most what was
under way: as many mails as there are connections.
"""

import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter

from sqlalchemy import func, select

from loyalbell.channels.smtp import SmtpSender
from loyalbell.core.messages import content as c
from loyalbell.core.sequences.plan import read_plan
from loyalbell.post_room.server import KEY
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.application import Application
from loyalbell.services.delivery import after_stop
from loyalbell.services.delivery.composing.rendering import message_id
from loyalbell.services.delivery.senders import ShopSender, point_at
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.commands import keep
from loyalbell.storage.schema import ConsentEntry, Delivery, Enrolment
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase
from tests.support import StillClock

KILLS, PEOPLE_AT_A_TIME, SEED, TOLD_EVERY = 1_000, 24, 11, 50
NETWORKS = """
import sys, time
from datetime import UTC, datetime
from pathlib import Path
from loyalbell.post_room.server import PostRoom
from loyalbell.post_room.store import PostRoomStore
room = PostRoom(PostRoomStore(Path(sys.argv[1])), lambda: datetime.now(UTC))
print(room.start(), room.address, flush=True)
time.sleep(10**9)
"""


class KillsCase(SequenceCase):
    """The shop that is killed, the networks beside it, and what is counted."""

    def begin(self) -> None:
        self.doubts = Counter[str]()
        self.most_in_doubt, self.came, self.rng = 0, 0, random.Random(SEED)
        taken = self.folder / "networks"
        taken.mkdir()
        self.networks = subprocess.Popen(
            [sys.executable, "-c", NETWORKS, str(taken)], stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(self.networks.kill)
        assert self.networks.stdout is not None
        port, address = self.networks.stdout.readline().split()
        self.store = PostRoomStore(taken)
        self.addCleanup(self.store.close)
        point_at(self.application, "127.0.0.1", int(port), "http://127.0.0.1:1", address, KEY)
        self.care(guard_floor=10**6, limits=[], quiet_begins="", quiet_ends="")
        message = message_commands.keep(self.application, None, "Both", self.both(), "Ida")
        steps = [
            {"do": "message", "id": "m", "message": message},
            {"do": "hand off", "id": "h", "list": "All"},
            {"do": "message", "id": "n", "message": message, "channels": ["text"]},
        ]
        made = keep(
            self.application, None, "Killed", read_plan({"start": AFTER_AN_ORDER, "steps": steps}), ""
        )
        checked = publishing.must_fix
        publishing.must_fix = lambda found: False  # type: ignore[assignment]
        publishing.publish(self.application, made, publishing.Choices(), "Ida", normal=10**6)
        publishing.must_fix = checked

    def both(self) -> c.MessageContent:
        head = message_queries.letterheads(self.application)[0].id
        mail = c.EmailContent(subject="Hi", preview="p", letterhead=head, blocks=[c.Text(text="Hi")])
        return c.MessageContent(writings=[mail, c.TextContent(texts=[c.ShownText(text="Hi")])])

    def more_people(self) -> None:
        self.clock.move_on(HOUR)
        for _ in range(PEOPLE_AT_A_TIME):
            self.came += 1
            phone = f"+1{2_025_550_000 + self.came}"
            person = self.add_person(f"p{self.came}@example.com", phone=phone)
            with self.application.database.transaction() as session:
                session.add(
                    ConsentEntry(
                        person_id=person, channel="text", state="agreed", at=self.clock.now(), source="test"
                    )
                )
            self.add_order(person, 0)
        self.clock.move_on(HOUR)

    def through(self, application: Application) -> ShopSender:
        return ShopSender(application, SmtpSender, None)

    def run_in_child(self, seconds: float) -> bool:
        """Whether the child came to its end before it was killed."""
        self.application.database.engine.dispose()
        child = os.fork()
        if child == 0:
            application = Application(self.folder, StillClock(self.clock.now()))
            sender = self.through(application)
            after_stop.mend_after_stop(application, sender)
            while tick(application, sender):
                pass
            os._exit(0)
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if os.waitpid(child, os.WNOHANG)[0]:
                return True
            time.sleep(0.002)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        return False

    def look(self) -> None:
        """After a kill: what is in doubt, and what a person finds out about it at the mail server."""
        after_stop.mend_after_stop(self.application, self.through(self.application))
        with self.application.database.reading() as session:
            unsure = list(session.scalars(select(Delivery).where(Delivery.state == "unsure")))
        shop = self.application.the_shop()
        self.most_in_doubt = max(self.most_in_doubt, len(unsure))
        self.doubts.update(one.channel for one in unsure)
        for one in unsure:
            after_stop._settled(self.application, one.id, self.store.has(message_id(one, shop)))

    def figures(self) -> dict[str, int]:
        with self.application.database.reading() as session:
            sent = session.scalar(select(func.count()).where(Delivery.state == "sent")) or 0
            finished = session.scalar(select(func.count()).where(Enrolment.state == "finished")) or 0
        mails = Counter(self.store.recipients())
        texts = Counter(one.recipient for one in self.store.shorts("text", limit=10**7))
        return {
            "people": self.came,
            "finished": finished,
            "messages sent": sent,
            "lost": 2 * self.came - len(mails) - len(texts),
            "twice": sum(count > 1 for count in (*mails.values(), *texts.values())),
            "most mails in doubt after a kill": self.most_in_doubt,
            "texts in doubt": self.doubts["text"],
        }


def main() -> int:
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else KILLS
    case = KillsCase("run")
    case.setUp()
    try:
        case.begin()
        kills = 0
        case.more_people()
        while kills < wanted:
            if case.run_in_child(case.rng.uniform(0.02, 0.5)):
                case.more_people()
                continue
            kills += 1
            case.look()
            if kills % TOLD_EVERY == 0:
                print(f"{kills:,} kills: {case.figures()}", flush=True)
        while not case.run_in_child(60):
            pass
        case.look()
        while tick(case.application, case.through(case.application)):
            pass
        found = case.figures()
    finally:
        case.doCleanups()
    print(f"{kills:,} kills: {found}")
    wrong = found["lost"] or found["twice"] or found["texts in doubt"] or found["finished"] != found["people"]
    return 1 if wrong or found["most mails in doubt after a kill"] > SmtpSender("", 0).side_by_side else 0


if __name__ == "__main__":
    sys.exit(main())
