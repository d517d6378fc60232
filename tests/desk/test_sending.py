"""Nobody gets it twice, nobody who refused gets it, nothing is lost."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from datetime import timedelta
from pathlib import Path

import structlog
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError

from loyalbell.channels.email_smtp import SmtpSender
from loyalbell.channels.post_room.server import PostRoom
from loyalbell.channels.post_room.store import PostRoomStore
from loyalbell.desk import campaigns, responses, sending, setting_up
from loyalbell.desk.campaigns import CannotSend
from loyalbell.desk.results import results_of
from loyalbell.desk.sender_setting import point_at
from loyalbell.desk.tick_lock import AlreadyTicking, Lock
from loyalbell.desk.ticking import Heartbeat, tick
from loyalbell.store.tables import Suppression, TickLock, Touch
from tests.books import DeskCase, FakeSender, wait_for


class SendingCase(DeskCase):
    def campaign(self, people: int = 3, name: str = "May") -> int:
        for at in range(people):
            person = self.add_person(f"p{at}@example.com", first_name=f"P{at}")
            self.add_order(person, days_ago=90)
        return campaigns.draft_campaign(self.desk, name, self.lapsed_segment(), self.letter(), "Ida")

    def states(self) -> Counter[str]:
        with self.desk.book.reading() as session:
            return Counter(session.scalars(select(Touch.state)))

    def touch(self) -> Touch:
        with self.desk.book.reading() as session:
            return session.scalars(select(Touch).order_by(Touch.id)).first()


class Campaigns(SendingCase):
    def test_everyone_once_and_the_left_out_with_causes(self) -> None:
        campaign = self.campaign(2)
        for consent in ("refused", "waiting", "never asked"):
            self.add_order(self.add_person(f"{consent[:3]}@example.com", consent), 90)
        self.add_order(self.add_person(None), 90)
        self.add_order(self.add_person("p1@example.com"), 90)  # shares an address
        self.assertEqual(campaigns.start_campaign(self.desk, campaign, 2, "Ida"), 2)
        sender = FakeSender()
        tick(self.desk, sender)
        tick(self.desk, sender)
        self.assertEqual(
            sorted(message.recipient for message in sender.handed), ["p0@example.com", "p1@example.com"]
        )
        found = results_of(self.desk, campaign)
        causes = Counter(line.note for line in found.people["left out"].values())
        self.assertEqual(sorted(causes.values()), [1] * 5)
        self.assertEqual(found.campaign.state, "sent")

    def test_it_starts_once_and_only_at_the_number_that_was_seen(self) -> None:
        campaign = self.campaign()
        with self.assertRaisesRegex(CannotSend, "changed from 9 to 3"):
            campaigns.start_campaign(self.desk, campaign, 9, "Ida")
        campaigns.start_campaign(self.desk, campaign, 3, "Ida")
        with self.assertRaisesRegex(CannotSend, "already"):
            campaigns.start_campaign(self.desk, campaign, 3, "Ida")
        with self.assertRaises(IntegrityError), self.desk.book.writing() as session:
            first = session.scalars(select(Touch)).first()
            copied = {
                c.name: getattr(first, c.name)
                for c in Touch.__table__.columns
                if c.name not in ("id", "token")
            }
            session.add(Touch(token="another", **copied))

    def test_a_refusal_between_start_and_send_holds(self) -> None:
        campaigns.start_campaign(self.desk, self.campaign(), 3, "Ida")
        responses.refuse(self.desk, self.touch().token)
        sender = FakeSender()
        tick(self.desk, sender)
        self.assertEqual(len(sender.handed), 2)
        self.assertEqual(self.touch().cause, "refused")

    def test_silence_and_stop(self) -> None:
        campaign = self.campaign()
        campaigns.start_campaign(self.desk, campaign, 3, "Ida")
        setting_up.switch(self.desk, False, "Ida")
        sender = FakeSender()
        self.assertEqual(tick(self.desk, sender), 0)
        setting_up.switch(self.desk, True, "Ida")
        sending.send_due(self.desk, sender, limit=1)
        self.assertEqual(campaigns.stop_campaign(self.desk, campaign, "Ida"), 2)
        tick(self.desk, sender)
        self.assertEqual(len(sender.handed), 1)

    def test_a_message_that_cannot_be_filled_withholds_only_that_one(self) -> None:
        self.add_order(self.add_person("no-name@example.com"), 90)
        self.add_order(self.add_person("ann@example.com", first_name="Ann"), 90)
        letter = self.letter("Bare", "Hi {{ first_name }}")
        campaign = campaigns.draft_campaign(self.desk, "x", self.lapsed_segment(), letter, "Ida")
        campaigns.start_campaign(self.desk, campaign, 2, "Ida")
        sender = FakeSender()
        tick(self.desk, sender)
        self.assertEqual([message.recipient for message in sender.handed], ["ann@example.com"])
        self.assertIn("No first name", self.touch().detail or "")


class Outcomes(SendingCase):
    def test_a_mailbox_that_does_not_exist_is_suppressed(self) -> None:
        campaigns.start_campaign(self.desk, self.campaign(1), 1, "Ida")
        tick(self.desk, FakeSender("refused", "550 5.1.1 No such mailbox"))
        self.assertEqual(self.states(), {"bounced": 1})
        with self.desk.book.reading() as session:
            self.assertEqual(session.scalars(select(Suppression.address)).all(), ["p0@example.com"])
        self.assertFalse(self.desk.ledger().reachable(0, int(self.clock.now().timestamp())).any())

    def test_not_now_is_tried_again_later_then_given_up(self) -> None:
        campaigns.start_campaign(self.desk, self.campaign(1), 1, "Ida")
        sender = FakeSender("try later", "451 busy")
        for tries in range(1, len(sending.WAITS) + 2):
            tick(self.desk, sender)
            self.assertEqual(len(sender.handed), tries)
            self.clock.move_on(timedelta(hours=9))
        self.assertEqual(self.states(), {"failed": 1})

    def test_unsure_waits_for_a_person(self) -> None:
        campaign = self.campaign(1)
        campaigns.start_campaign(self.desk, campaign, 1, "Ida")
        tick(self.desk, FakeSender("unsure", "connection lost"))
        sender = FakeSender()
        self.clock.move_on(timedelta(days=9))
        tick(self.desk, sender)
        self.assertEqual((len(sender.handed), self.states()), (0, {"unsure": 1}))
        sending.decide_unsure(self.desk, campaign, again=True, by="Ida")
        tick(self.desk, sender)
        self.assertEqual((len(sender.handed), self.states()), (1, {"sent": 1}))

    def test_a_tick_that_fails_half_way_leaves_nothing_hanging(self) -> None:
        class Broken(FakeSender):
            def send(self, batch):
                raise RuntimeError("the network card fell out")

        campaigns.start_campaign(self.desk, self.campaign(1), 1, "Ida")
        heartbeat = Heartbeat(self.desk, Broken())
        with structlog.testing.capture_logs():
            heartbeat.start()
            wait_for(lambda: self.states() == {"unsure": 1})
            heartbeat.stop()

    def test_after_a_crash_the_network_is_asked_or_a_person(self) -> None:
        for known, state in ((True, "sent"), (False, "planned"), (None, "unsure")):
            with self.subTest(known=known):
                name = f"crash {known}"
                campaign = campaigns.draft_campaign(self.desk, name, *self.one_person(name), "Ida")
                campaigns.start_campaign(self.desk, campaign, 1, "Ida")
                sending.claim(self.desk, 10)
                sending.mend_after_stop(self.desk, FakeSender(known=known))
                with self.desk.book.reading() as session:
                    touch = session.scalars(select(Touch).where(Touch.origin_id == campaign)).one()
                self.assertEqual(touch.state, state)
                sending.decide_unsure(self.desk, campaign, again=False, by="Ida")
                campaigns.stop_campaign(self.desk, campaign, "Ida")

    def one_person(self, name: str) -> tuple[int, int]:
        if not len(self.desk.ledger().people):
            self.add_order(self.add_person(), 90)
            self.segment, self.message = self.lapsed_segment(), self.letter()
        return self.segment, self.message


class Responses(SendingCase):
    def test_figures_follow_what_people_do(self) -> None:
        campaign = self.campaign()
        campaigns.start_campaign(self.desk, campaign, 3, "Ida")
        tick(self.desk, FakeSender())
        token, person = self.touch().token, self.touch().person_id
        for _ in range(2):
            self.assertTrue(responses.opened(self.desk, token))
            self.assertEqual(responses.clicked(self.desk, token, "0"), "https://shop.example/a?b=1&c=2")
        self.assertIsNone(responses.clicked(self.desk, token, "7"))
        self.assertFalse(responses.opened(self.desk, "unknown"))
        self.clock.move_on(timedelta(days=4))
        self.add_order(person, 0, 2_500, refunded_minor=500)
        self.add_order(person, 0, 900, cancelled_at=self.clock.now())
        self.clock.move_on(timedelta(days=2))
        self.add_order(person, 0, 9_999)
        found = results_of(self.desk, campaign)
        self.assertEqual(
            [found.count(f) for f in ("delivered", "opened", "clicked", "ordered")], [3, 1, 1, 1]
        )
        self.assertEqual((found.revenue, found.orders), (2_000, 1))

    def test_refusing_and_staying(self) -> None:
        campaigns.start_campaign(self.desk, self.campaign(1), 1, "Ida")
        tick(self.desk, FakeSender())
        token, now = self.touch().token, lambda: int(self.clock.now().timestamp())
        responses.stay(self.desk, token)
        for _ in range(2):
            self.assertTrue(responses.refuse(self.desk, token))
        self.assertFalse(self.desk.ledger().reachable(0, now()).any())
        responses.stay(self.desk, token)
        self.assertTrue(self.desk.ledger().reachable(0, now()).all())


class TheLock(DeskCase):
    def test_a_second_living_process_is_refused_and_a_dead_one_replaced(self) -> None:
        with self.desk.book.writing() as session:
            from datetime import UTC, datetime

            session.add(TickLock(id=1, holder="other", pid=os.getppid(), seen_at=datetime.now(UTC)))
        with self.assertRaises(AlreadyTicking):
            Lock(self.desk).take()
        gone = subprocess.run(
            [sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, check=True
        )
        with self.desk.book.writing() as session:
            session.get_one(TickLock, 1).pid = int(gone.stdout)
        Lock(self.desk).take()


PROGRAM = """
import sys
from pathlib import Path
from loyalbell.channels.email_smtp import SmtpSender
from loyalbell.channels.post_room.store import PostRoomStore
from loyalbell.desk.desk import Desk
from loyalbell.desk.sender_setting import ShopSender
from loyalbell.desk import sending
from loyalbell.desk.tick_lock import Lock
from tests.books import StillClock
desk = Desk(Path(sys.argv[1]), StillClock())
ask = PostRoomStore(Path(sys.argv[1])).has if sys.argv[2] == "ask" else None
sender = ShopSender(desk, SmtpSender, ask)
Lock(desk).take()
sending.mend_after_stop(desk, sender)
while sending.send_due(desk, sender, limit=7):
    print("step", flush=True)
"""


class Killed(SendingCase):
    """The sending process is killed at many moments; each start goes on where the last one stopped."""

    PEOPLE = 120

    def setUp(self) -> None:
        super().setUp()
        self.store = PostRoomStore(self.folder)
        self.room = PostRoom(self.store, self.clock.now)
        point_at(self.desk, "127.0.0.1", self.room.start(), "http://127.0.0.1:1")
        self.addCleanup(self.store.close)
        self.addCleanup(self.room.stop)
        campaigns.start_campaign(self.desk, self.campaign(self.PEOPLE), self.PEOPLE, "Ida")

    def run_until_killed(self, ask: str, after: float) -> None:
        process = subprocess.Popen(
            [sys.executable, "-c", PROGRAM, str(self.folder), ask], stdout=subprocess.PIPE
        )
        assert process.stdout is not None
        process.stdout.readline()
        time.sleep(after)
        process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()

    def finish(self, ask: str) -> None:
        subprocess.run(
            [sys.executable, "-c", PROGRAM, str(self.folder), ask], check=True, capture_output=True
        )

    def test_where_the_network_can_be_asked_all_get_it_once(self) -> None:
        for kill in range(6):
            self.run_until_killed("ask", 0.013 * kill)
        self.finish("ask")
        got = Counter(self.store.recipients())
        self.assertEqual(self.states(), {"sent": self.PEOPLE})
        self.assertEqual((len(got), max(got.values())), (self.PEOPLE, 1))

    def test_where_it_cannot_a_person_is_asked_and_nobody_gets_two(self) -> None:
        for kill in range(6):
            self.run_until_killed("cannot", 0.013 * kill)
        self.finish("cannot")
        got = Counter(self.store.recipients())
        states = self.states()
        self.assertEqual(max(got.values()), 1)
        self.assertEqual(states["sent"] + states["unsure"], self.PEOPLE)
        self.assertLessEqual(states["unsure"], 6 * 7)
        with self.desk.book.reading() as session:
            told_sent = set(session.scalars(select(Touch.address).where(Touch.state == "sent")))
        self.assertLessEqual(told_sent, set(got))


class Smtp(unittest.TestCase):
    """The real SMTP client against the post room's real SMTP server."""

    def test_acceptance_refusal_and_no_server(self) -> None:
        from loyalbell.channels.base import Outgoing
        from tests.books import NOW

        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        store = PostRoomStore(folder)
        room = PostRoom(store, lambda: NOW)
        port = room.start()
        mail = (
            b"From: a@shop.example\r\nTo: b@example.com\r\nMessage-ID: <1@x>\r\nSubject: hi\r\n\r\n.dot\r\n"
        )
        batch = [
            Outgoing(1, "a@shop.example", "b@example.com", "<1@x>", mail),
            Outgoing(2, "a@shop.example", "nobody@example.com", "<2@x>", mail),
        ]
        outcomes = {o.touch_id: o.result for o in SmtpSender("127.0.0.1", port).send(batch)}
        self.assertEqual(outcomes, {1: "accepted", 2: "refused"})
        self.assertTrue(store.has("<1@x>"))
        arrived = store.open(1)
        assert arrived is not None
        self.assertEqual(arrived.raw, mail)
        room.stop()
        store.close()
        self.assertEqual([o.result for o in SmtpSender("127.0.0.1", port).send(batch)], ["try later"] * 2)
