"""Nobody gets it twice, nobody who refused gets it, nothing is lost."""

import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path

import structlog
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError

from loyalbell.channels.smtp import SmtpSender
from loyalbell.post_room.server import PostRoom
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.delivery import after_stop, dispatcher, engagement, outcomes
from loyalbell.services.delivery.leader_lease import AlreadyTicking, Lease
from loyalbell.services.delivery.senders import point_at
from loyalbell.services.delivery.timing import PATIENCE_DAYS
from loyalbell.services.results.campaign_results import results_of
from loyalbell.services.scheduler import Heartbeat, tick
from loyalbell.services.settings import shop as shop_settings
from loyalbell.storage.schema import Delivery, LeaderLease, Suppression
from tests.support import ApplicationCase, FakeSender, wait_for


class SendingCase(ApplicationCase):
    def campaign(self, people: int = 3, name: str = "May") -> int:
        for at in range(people):
            person = self.add_person(f"p{at}@example.com", first_name=f"P{at}")
            self.add_order(person, days_ago=90)
        return campaign_commands.draft_campaign(
            self.application, name, self.lapsed_segment(), self.letter(), "Ida"
        )

    def states(self) -> Counter[str]:
        with self.application.database.reading() as session:
            return Counter(session.scalars(select(Delivery.state)))

    def delivery(self) -> Delivery:
        with self.application.database.reading() as session:
            return session.scalars(select(Delivery).order_by(Delivery.id)).first()


class Campaigns(SendingCase):
    def test_everyone_once_and_the_left_out_with_causes(self) -> None:
        campaign = self.campaign(2)
        for consent in ("refused", "waiting", "never asked"):
            self.add_order(self.add_person(f"{consent[:3]}@example.com", consent), 90)
        self.add_order(self.add_person(None), 90)
        self.add_order(self.add_person("p1@example.com"), 90)  # shares an address
        self.assertEqual(campaign_commands.start_campaign(self.application, campaign, 2, "Ida"), 2)
        sender = FakeSender()
        tick(self.application, sender)
        tick(self.application, sender)
        self.assertEqual(
            sorted(message.recipient for message in sender.handed), ["p0@example.com", "p1@example.com"]
        )
        found = results_of(self.application, campaign)
        causes = Counter(line.note for line in found.people["left out"].values())
        self.assertEqual(sorted(causes.values()), [1] * 5)
        self.assertEqual(found.campaign.state, "sent")

    def test_it_starts_once_and_only_at_the_number_that_was_seen(self) -> None:
        campaign = self.campaign()
        with self.assertRaisesRegex(CannotSend, "changed from 9 to 3"):
            campaign_commands.start_campaign(self.application, campaign, 9, "Ida")
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        with self.assertRaisesRegex(CannotSend, "already"):
            campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        with self.assertRaises(IntegrityError), self.application.database.transaction() as session:
            first = session.scalars(select(Delivery)).first()
            copied = {
                c.name: getattr(first, c.name)
                for c in Delivery.__table__.columns
                if c.name not in ("id", "token")
            }
            session.add(Delivery(token="another", **copied))

    def test_a_refusal_between_start_and_send_holds(self) -> None:
        campaign_commands.start_campaign(self.application, self.campaign(), 3, "Ida")
        engagement.refuse(self.application, self.delivery().token)
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual(len(sender.handed), 2)
        self.assertEqual(self.delivery().cause, "refused")

    def test_silence_and_stop(self) -> None:
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        shop_settings.switch(self.application, False, "Ida")
        sender = FakeSender()
        self.assertEqual(tick(self.application, sender), 0)
        shop_settings.switch(self.application, True, "Ida")
        dispatcher.send_due(self.application, sender, limit=1)
        self.assertEqual(campaign_commands.stop_campaign(self.application, campaign, "Ida"), 2)
        tick(self.application, sender)
        self.assertEqual(len(sender.handed), 1)

    def test_a_message_that_cannot_be_filled_withholds_only_that_one(self) -> None:
        self.add_order(self.add_person("no-name@example.com"), 90)
        self.add_order(self.add_person("ann@example.com", first_name="Ann"), 90)
        letter = self.letter("Bare", "Hi {{ first_name }}")
        campaign = campaign_commands.draft_campaign(
            self.application, "x", self.lapsed_segment(), letter, "Ida"
        )
        campaign_commands.start_campaign(self.application, campaign, 2, "Ida")
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual([message.recipient for message in sender.handed], ["ann@example.com"])
        self.assertIn("No first name", self.delivery().detail or "")


class Outcomes(SendingCase):
    def test_a_mailbox_that_does_not_exist_is_suppressed(self) -> None:
        campaign_commands.start_campaign(self.application, self.campaign(1), 1, "Ida")
        tick(self.application, FakeSender("refused", "550 5.1.1 No such mailbox"))
        self.assertEqual(self.states(), {"bounced": 1})
        with self.application.database.reading() as session:
            self.assertEqual(session.scalars(select(Suppression.address)).all(), ["p0@example.com"])
        self.assertFalse(self.application.snapshot().reachable(0, int(self.clock.now().timestamp())).any())

    def test_not_now_is_tried_again_later_then_given_up(self) -> None:
        campaign_commands.start_campaign(self.application, self.campaign(1), 1, "Ida")
        sender, began = FakeSender("try later", "451 4.2.2 mailbox full"), self.clock.now()
        while self.states() == {"planned": 1}:
            tick(self.application, sender)
            self.clock.move_on(timedelta(hours=4))
        self.assertEqual(self.states(), {"failed": 1})
        self.assertEqual(self.delivery().detail, "451 4.2.2 mailbox full", "in the server's own words")
        given_up = self.clock.now() - began - timedelta(hours=4)
        self.assertLessEqual(given_up, timedelta(days=PATIENCE_DAYS), "as long as its patience")
        self.assertGreater(given_up + outcomes.WAITS[-1], timedelta(days=PATIENCE_DAYS), "and no shorter")
        self.assertGreater(len(sender.handed), 5)
        sender.result, sender.words = "accepted", "250 OK"
        after_stop.send_failed_again(self.application, "campaign", self.delivery().origin_id, "Ida")
        tick(self.application, sender)
        self.assertEqual(self.states(), {"sent": 1}, "a person may have it tried once more")

    def test_unsure_waits_for_a_person(self) -> None:
        campaign = self.campaign(1)
        campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
        tick(self.application, FakeSender("unsure", "connection lost"))
        sender = FakeSender()
        self.clock.move_on(timedelta(days=9))
        tick(self.application, sender)
        self.assertEqual((len(sender.handed), self.states()), (0, {"unsure": 1}))
        after_stop.decide_unsure(self.application, campaign, again=True, by="Ida")
        tick(self.application, sender)
        self.assertEqual((len(sender.handed), self.states()), (1, {"sent": 1}))

    def test_a_tick_that_fails_half_way_leaves_nothing_hanging(self) -> None:
        class Broken(FakeSender):
            def send(self, batch):
                raise RuntimeError("the network card fell out")

        campaign_commands.start_campaign(self.application, self.campaign(1), 1, "Ida")
        heartbeat = Heartbeat(self.application, Broken())
        with structlog.testing.capture_logs():
            heartbeat.start()
            wait_for(lambda: self.states() == {"unsure": 1})
            heartbeat.stop()

    def test_after_a_crash_the_network_is_asked_or_a_person(self) -> None:
        for known, state in ((True, "sent"), (False, "planned"), (None, "unsure")):
            with self.subTest(known=known):
                name = f"crash {known}"
                campaign = campaign_commands.draft_campaign(
                    self.application, name, *self.one_person(name), "Ida"
                )
                campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
                ready = dispatcher.claim(self.application, 10).ready
                with self.application.database.transaction() as session:
                    outcomes.mark_handed(session, [one.delivery_id for one in ready], self.clock.now())
                after_stop.mend_after_stop(self.application, FakeSender(known=known))
                with self.application.database.reading() as session:
                    delivery = session.scalars(select(Delivery).where(Delivery.origin_id == campaign)).one()
                self.assertEqual(delivery.state, state)
                after_stop.decide_unsure(self.application, campaign, again=False, by="Ida")
                campaign_commands.stop_campaign(self.application, campaign, "Ida")

    def test_what_was_in_hand_and_not_handed_over_is_not_in_doubt(self) -> None:
        """Seen: up to 50 messages in doubt at every restart when four were under way."""
        campaign_commands.start_campaign(self.application, self.campaign(9), 9, "Ida")
        ready = dispatcher.claim(self.application, 50).ready
        with self.application.database.transaction() as session:
            outcomes.mark_handed(session, [one.delivery_id for one in ready[:4]], self.clock.now())
        after_stop.mend_after_stop(self.application, FakeSender(known=None))
        self.assertEqual(self.states(), {"unsure": 4, "planned": 5})

    def one_person(self, name: str) -> tuple[int, int]:
        if not len(self.application.snapshot().people):
            self.add_order(self.add_person(), 90)
            self.segment, self.message = self.lapsed_segment(), self.letter()
        return self.segment, self.message


READER = "Mozilla/5.0 (X11; Linux) Mail/3"


class Engagements(SendingCase):
    def test_pictures_that_a_machine_fetched_are_nobodys_opening(self) -> None:
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        tick(self.application, FakeSender())
        self.clock.move_on(timedelta(hours=1))
        engagement.opened(self.application, self.delivery().token, "PictureFetcher/1.0 (prefetch)")
        self.assertEqual(results_of(self.application, campaign).count("opened"), 0)
        engagement.opened(self.application, self.delivery().token, READER)
        self.assertEqual(results_of(self.application, campaign).count("opened"), 1)

    def test_figures_follow_what_people_do(self) -> None:
        campaign = self.campaign()
        campaign_commands.start_campaign(self.application, campaign, 3, "Ida")
        tick(self.application, FakeSender())
        token, person = self.delivery().token, self.delivery().person_id
        self.clock.move_on(timedelta(minutes=1))
        for _ in range(2):
            self.assertTrue(engagement.opened(self.application, token, READER))
            self.assertEqual(
                engagement.clicked(self.application, token, "0"), "https://shop.example/a?b=1&c=2"
            )
        self.assertIsNone(engagement.clicked(self.application, token, "7"))
        self.assertFalse(engagement.opened(self.application, "unknown", READER))
        self.clock.move_on(timedelta(days=4))
        self.add_order(person, 0, 2_500, refunded_minor=500)
        self.add_order(person, 0, 900, cancelled_at=self.clock.now())
        self.clock.move_on(timedelta(days=2))
        self.add_order(person, 0, 9_999)
        found = results_of(self.application, campaign)
        self.assertEqual(
            [found.count(f) for f in ("delivered", "opened", "clicked", "ordered")], [3, 1, 1, 1]
        )
        self.assertEqual((found.revenue, found.orders), (2_000, 1))

    def test_refusing_and_staying(self) -> None:
        campaign_commands.start_campaign(self.application, self.campaign(1), 1, "Ida")
        tick(self.application, FakeSender())
        token, now = self.delivery().token, lambda: int(self.clock.now().timestamp())
        engagement.stay(self.application, token)
        for _ in range(2):
            self.assertTrue(engagement.refuse(self.application, token))
        self.assertFalse(self.application.snapshot().reachable(0, now()).any())
        engagement.stay(self.application, token)
        self.assertTrue(self.application.snapshot().reachable(0, now()).all())


HOLDER = """
import sys
from pathlib import Path
from loyalbell.services.application import Application
from loyalbell.services.delivery.leader_lease import Lease
Lease(Application(Path(sys.argv[1]))).take()
print("taken", flush=True)
sys.stdin.read()
"""
NO_PROCESS = 2**22 + 1
"""Above the highest number that Linux gives out."""


class TheLock(ApplicationCase):
    def hold(self) -> "subprocess.Popen[bytes]":
        """The lease, held by another living process."""
        other = subprocess.Popen(
            [sys.executable, "-c", HOLDER, str(self.folder)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        self.addCleanup(other.communicate)
        self.addCleanup(other.kill)
        assert other.stdout is not None
        self.assertEqual(other.stdout.readline(), b"taken\n")
        return other

    def seen(self, age: timedelta, pid: int = NO_PROCESS) -> None:
        with self.application.database.transaction() as session:
            held = session.get_one(LeaderLease, 1)
            held.seen_at, held.pid = datetime.now(UTC) - age, pid

    def test_a_second_living_process_is_refused_and_a_dead_one_replaced(self) -> None:
        """Also where its number means nothing here, as in another container."""
        other = self.hold()
        self.seen(timedelta())
        with self.assertRaisesRegex(AlreadyTicking, "already running"):
            Lease(self.application).take()
        other.kill()
        other.wait()
        self.seen(timedelta())
        Lease(self.application).take()

    def test_a_lease_that_is_not_renewed_for_a_minute_is_taken_over(self) -> None:
        """Another living process holds it, but has said nothing for so long that it must hang."""
        self.hold()
        lease = Lease(self.application)
        self.seen(timedelta(seconds=50))
        self.assertRaises(AlreadyTicking, lease.take)
        self.seen(timedelta(seconds=61))
        lease.take()
        held = self.application.find(LeaderLease, 1)
        self.assertEqual(held and held.holder, lease.holder)


PROGRAM = """
import sys
from pathlib import Path
from loyalbell.channels.smtp import SmtpSender
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.application import Application
from loyalbell.services.delivery import after_stop, dispatcher
from loyalbell.services.delivery.leader_lease import Lease
from loyalbell.services.delivery.senders import ShopSender
from tests.still_clock import StillClock
application = Application(Path(sys.argv[1]), StillClock())
ask = PostRoomStore(Path(sys.argv[1])).has if sys.argv[2] == "ask" else None
sender = ShopSender(application, SmtpSender, ask)
Lease(application).take()
after_stop.mend_after_stop(application, sender)
while dispatcher.send_due(application, sender, limit=7):
    print("step", flush=True)
"""


class Killed(SendingCase):
    """The sending process is killed at many moments; each start goes on where the last one stopped."""

    PEOPLE = 120

    def setUp(self) -> None:
        super().setUp()
        self.store = PostRoomStore(self.folder)
        self.room = PostRoom(self.store, self.clock.now)
        point_at(self.application, "127.0.0.1", self.room.start(), "http://127.0.0.1:1")
        self.addCleanup(self.store.close)
        self.addCleanup(self.room.stop)
        campaign_commands.start_campaign(self.application, self.campaign(self.PEOPLE), self.PEOPLE, "Ida")

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
        with self.application.database.reading() as session:
            told_sent = set(session.scalars(select(Delivery.address).where(Delivery.state == "sent")))
        self.assertLessEqual(told_sent, set(got))


class Smtp(unittest.TestCase):
    """The real SMTP client against the post room's real SMTP server."""

    def test_acceptance_refusal_and_no_server(self) -> None:
        from loyalbell.channels.sender import Outgoing
        from tests.support import NOW

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
        outcomes = {o.delivery_id: o.result for o in SmtpSender("127.0.0.1", port).send(batch)}
        self.assertEqual(outcomes, {1: "accepted", 2: "refused"})
        self.assertTrue(store.has("<1@x>"))
        arrived = store.open(1)
        assert arrived is not None
        self.assertEqual(arrived.raw, mail)
        room.stop()
        store.close()
        self.assertEqual([o.result for o in SmtpSender("127.0.0.1", port).send(batch)], ["try later"] * 2)
