"""A network that refuses, hangs or limits us stops its own channel only, uses up no message, and says so."""

import threading
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta

import structlog
from sqlalchemy import func, select

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import after_stop, circuits, dispatcher, leader_lease
from loyalbell.services.delivery.leader_lease import Lease, LeaseLost
from loyalbell.services.scheduler import Heartbeat, tick
from loyalbell.services.sequences import manual_entry
from loyalbell.services.settings import shop as shop_settings
from loyalbell.services.settings.channels import EmailSettings
from loyalbell.services.settings.shop import NotSetUp, ShopForm
from loyalbell.services.today import queries as today_queries
from loyalbell.storage import change_log, schema
from loyalbell.storage.schema import ChangeNote, Delivery, LeaderLease, Shop, Suppression
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR
from tests.support import FakeSender, wait_for

SECOND, MINUTE = timedelta(seconds=1), timedelta(minutes=1)


class Network(Sender):
    """Answers by a function of the message; counts what it was handed."""

    def __init__(self, answer: Callable[[Outgoing], Outcome]) -> None:
        self.answer, self.handed = answer, list[Outgoing]()

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        self.handed += batch
        return [self.answer(message) for message in batch]

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return None


def ours(message: Outgoing) -> Outcome:
    return Outcome(message.delivery_id, "try later", "530 5.7.0 sign in first", about_us=True)


class ChannelRestsTest(CampaignPlanCase):
    def setUp(self) -> None:
        super().setUp()
        for number in range(34):
            self.add_order(self.add_person(f"more{number}@example.com"), 100)

    def begin(self) -> int:
        made = self.draft(engaged_only=False)
        self.start(made)
        return made

    def titles(self) -> list[str]:
        return [f"{one.title}: {one.words}" for one in today_queries.today(self.application).needs]

    def rows(self) -> list[Delivery]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(Delivery).order_by(Delivery.id)))

    def suppressed(self) -> int:
        with self.application.database.reading() as session:
            return len(list(session.scalars(select(Suppression))))

    def test_a_fault_of_ours_ends_the_batch_and_is_tried_with_one_message(self) -> None:
        made, broken = self.begin(), Network(ours)
        tick(self.application, broken)
        self.assertEqual(len(broken.handed), 4, "those that were under way, and no more")
        self.assertEqual({(one.state, one.attempts) for one in self.rows()}, {("planned", 0)})
        said = [one for one in self.titles() if "Email has not been accepted since" in one]
        self.assertEqual(len(said), 1)
        self.assertIn("530 5.7.0 sign in first", said[0])
        self.assertIn("40 messages wait", said[0])
        self.clock.move_on(29 * SECOND)
        tick(self.application, broken)
        self.assertEqual(len(broken.handed), 4)
        self.clock.move_on(SECOND)
        tick(self.application, broken)
        self.assertEqual(len(broken.handed), 5, "half open: one")
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 40)
        self.assertEqual([one for one in self.titles() if "has not been accepted" in one], [])

    def test_a_person_may_have_it_tried_at_once(self) -> None:
        made = self.begin()
        tick(self.application, Network(ours))
        circuits.try_now(self.application, "email", "Ida")
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 40)

    def test_two_a_second_after_a_burst_of_ten(self) -> None:
        """Seen: at 2 a second with a burst of 10, 142 of 300 mails failed for good."""
        tokens, began = 10.0, self.clock.now()

        def limited(message: Outgoing) -> Outcome:
            nonlocal tokens, began
            now = self.clock.now()
            tokens, began = min(10.0, tokens + 2 * (now - began).total_seconds()), now
            if tokens < 1:
                return Outcome(message.delivery_id, "try later", "429 slow down", True, True, 1)
            tokens -= 1
            return Outcome(message.delivery_id, "accepted", "202")

        made, network, ticks = self.begin(), Network(limited), 0
        while self.sent(made) < 40 and ticks < 120:
            tick(self.application, network)
            self.clock.move_on(SECOND)
            ticks += 1
        self.assertEqual(self.sent(made), 40)
        self.assertLessEqual(ticks, 40, "not much slower than the network allows: 15 s at its best")
        self.assertEqual(max(one.attempts for one in self.rows()), 1, "a limit uses up no try")
        self.assertEqual([one for one in self.titles() if "has not been accepted" in one], [])

    def test_switched_to_silent_in_the_midst_of_a_batch_nothing_more_leaves(self) -> None:
        made = self.begin()
        for silence, speak in (
            (
                lambda: shop_settings.switch(self.application, False, "Ida"),
                lambda: shop_settings.switch(self.application, True, "Ida"),
            ),
            (lambda: self.care(silent=["email"]), lambda: self.care(silent=[])),
        ):
            before = self.sent(made)

            def taken(message: Outgoing, silence: Callable[[], None] = silence) -> Outcome:
                silence()
                return Outcome(message.delivery_id, "accepted", "250 OK")

            network = Network(taken)
            tick(self.application, network)
            self.assertEqual(len(network.handed), network.side_by_side)
            self.assertEqual(self.sent(made) - before, network.side_by_side)
            speak()
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 40)

    def test_a_campaign_stopped_while_its_messages_are_under_way_stays_stopped(self) -> None:
        """What the network puts back after the stop is withheld, not tried again."""
        made = self.begin()

        def later(message: Outgoing) -> Outcome:
            campaign_commands.stop_campaign(self.application, made, "Ida")
            return ours(message)

        tick(self.application, Network(later))
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual(self.sender.handed, [])
        self.assertEqual({(one.state, one.cause) for one in self.rows()}, {("withheld", "stopped")})

    def test_many_addresses_refused_alike_mark_nobody_until_a_person_believes_it(self) -> None:
        def gone(message: Outgoing) -> Outcome:
            if "more1" in message.recipient:
                return Outcome(message.delivery_id, "refused", "550 5.1.1 no such mailbox")
            return Outcome(message.delivery_id, "accepted", "250 OK")

        made, network = self.begin(), Network(gone)
        tick(self.application, network)
        self.assertEqual((self.suppressed(), self.sent(made)), (0, 29))
        said = [one for one in self.titles() if "until you decide" in one]
        self.assertEqual(len(said), 1)
        for _ in range(3):
            self.clock.move_on(HOUR)
            tick(self.application, network)
        self.assertEqual((self.suppressed(), self.sent(made)), (0, 29), "not one by one either")
        circuits.believe(self.application, "email", "Ida")
        self.clock.move_on(HOUR)
        tick(self.application, network)
        self.assertEqual(self.suppressed(), 11)
        self.assertEqual([one for one in self.titles() if "has not been accepted" in one], [])

    def test_a_server_that_knows_nobody_any_more_is_seen_in_small_batches_too(self) -> None:
        """Found by the bad days: a few messages a day, all refused, marked one customer after another."""

        def gone(message: Outgoing) -> Outcome:
            return Outcome(message.delivery_id, "refused", "550 5.1.1 unknown user")

        made, network = self.begin(), Network(gone)
        for _ in range(12):
            dispatcher.send_due(self.application, network, limit=1)
            self.clock.move_on(MINUTE)
        with self.application.database.reading() as session:
            held = list(session.scalars(select(Suppression).where(Suppression.lifted_at.is_(None))))
        self.assertEqual(held, [], "nobody stays marked")
        self.assertEqual(len([one for one in self.titles() if "until you decide" in one]), 1)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 38, "the two that were counted as bounced are not written to again")

    def test_messages_wait_as_long_as_their_patience_then_fail_in_the_servers_words(self) -> None:
        made, broken = self.begin(), Network(ours)
        for _ in range(4 * 24):
            tick(self.application, broken)
            self.clock.move_on(HOUR)
        self.assertEqual(
            {(one.state, one.cause, one.detail) for one in self.rows()},
            {("failed", "not accepted", "530 5.7.0 sign in first")},
        )
        self.assertEqual(len([one for one in self.titles() if "40 messages not delivered" in one]), 1)
        circuits.try_now(self.application, "email", "Ida")
        after_stop.send_failed_again(self.application, "campaign", made, "Ida")
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 40)

    def test_a_key_that_cannot_sign_closes_the_channel_and_withholds_nobody(self) -> None:
        made = self.begin()
        with self.application.database.transaction() as session:
            EmailSettings(dkim_key="no key", dkim_domain="shop.example", dkim_selector="s").save(session)
        tick(self.application, self.sender)
        self.assertEqual({one.state for one in self.rows()}, {"planned"})
        self.assertEqual(len([one for one in self.titles() if "DKIM" in one]), 1)
        with self.application.database.transaction() as session:
            EmailSettings().save(session)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 40)

    def test_the_sender_cannot_be_cleared_while_something_needs_it(self) -> None:
        """Seen: *Saved.*, then every send failed each second, and Today was silent."""
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]}, "After an order")
        with self.application.database.reading() as session:
            shop = session.get_one(Shop, 1)
            form = ShopForm(**{name: getattr(shop, name) for name in ShopForm.__dataclass_fields__})
        for change in ({"sender_email": ""}, {"smtp_host": ""}):
            with self.subTest(**change), self.assertRaisesRegex(NotSetUp, "“After an order” sends email"):
                shop_settings.change_shop(self.application, ShopForm(**{**vars(form), **change}), "Ida")
        self.assertTrue(self.application.the_shop().sender_email)

    def test_cleared_all_the_same_it_closes_the_channel_with_a_card(self) -> None:
        self.begin()
        with self.application.database.transaction() as session:
            session.get_one(Shop, 1).sender_email = ""
        tick(self.application, self.sender)
        self.assertEqual({one.state for one in self.rows()}, {"planned"})
        self.assertEqual(len([one for one in self.titles() if "no sender’s address" in one]), 1)


class OwnThreadsTest(CampaignPlanCase):
    def test_a_mail_server_that_hangs_stops_neither_texts_nor_sequences(self) -> None:
        """Seen: 130 seconds in which nothing moved."""
        release, handed = threading.Event(), list[str]()

        class Hanging(FakeSender):
            def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
                handed.append(batch[0].channel)
                if batch[0].channel == "email":
                    release.wait(60)
                return super().send(batch)

        self.start(self.draft(engaged_only=False))
        self.clock.move_on(MINUTE)
        heartbeat = Heartbeat(self.application, Hanging())
        heartbeat.start()
        try:
            wait_for(lambda: handed)
            self.ring(
                {"start": {"on": "hand"}, "steps": [{"do": "tell", "id": "t", "words": "Ring them up"}]},
                "By hand",
            )
            self.move_somebody_in()
            wait_for(lambda: self.enrolments("finished"))
            self.assertEqual(set(handed), {"email"}, "and the mail server hangs still")
        finally:
            release.set()
            heartbeat.stop()

    def move_somebody_in(self) -> None:
        with self.application.database.reading() as session:
            made = session.scalars(select(schema.Sequence.id).where(schema.Sequence.name == "By hand")).one()
        manual_entry.bring_by_hand(self.application, made, [self.people[0]], None, "Ida")


class TidyTest(CampaignPlanCase):
    def test_old_notes_of_the_change_log_are_forgotten(self) -> None:
        """Nothing called it: the log grew for ever."""
        usual, change_log.KEPT = change_log.KEPT, 3
        self.addCleanup(setattr, change_log, "KEPT", usual)
        heartbeat = Heartbeat(self.application, self.sender)
        heartbeat.start()
        wait_for(lambda: self.notes() <= 4)
        heartbeat.stop()

    def notes(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(ChangeNote)) or 0


class LeaseTest(CampaignPlanCase):
    def test_who_lost_the_lease_hands_over_nothing_more(self) -> None:
        """Seen: a second program started beside the first after a tick of 75 seconds."""
        self.start(self.draft(engaged_only=False))
        first, second = Lease(self.application), Lease(self.application)
        first.take()
        second.take()
        self.assertEqual(second.number, first.number + 1)
        with self.assertRaises(LeaseLost):
            dispatcher.send_due(self.application, self.sender, lease=first)
        self.assertEqual(self.sender.handed, [])
        self.assertGreater(dispatcher.send_due(self.application, self.sender, lease=second), 0)

    def test_it_is_lost_in_the_midst_of_a_batch(self) -> None:
        self.start(self.draft(engaged_only=False))
        first, second = Lease(self.application), Lease(self.application)
        first.take()

        class Interrupted(FakeSender):
            def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
                second.take()
                return super().send(batch)

        sender = Interrupted()
        with self.assertRaises(LeaseLost):
            dispatcher.send_due(self.application, sender, lease=first)
        self.assertEqual(len(sender.handed), sender.side_by_side)

    def test_it_is_renewed_while_a_step_takes_long(self) -> None:
        usual, leader_lease.RENEW_SECONDS = leader_lease.RENEW_SECONDS, 0.02
        self.addCleanup(setattr, leader_lease, "RENEW_SECONDS", usual)
        lease = Lease(self.application)
        lease.take()
        with self.application.database.transaction() as session:
            session.get_one(LeaderLease, 1).seen_at -= DAY
        lease.keep_renewing()
        before = self.seen_at()
        wait_for(lambda: self.seen_at() > before + DAY - HOUR)
        lease.release()

    def seen_at(self) -> datetime:
        with self.application.database.reading() as session:
            return session.get_one(LeaderLease, 1).seen_at

    def test_a_lost_lease_is_said_and_ends_the_threads(self) -> None:
        heartbeat = Heartbeat(self.application, self.sender)
        with structlog.testing.capture_logs() as logs:
            heartbeat.start()
            Lease(self.application).take()
            heartbeat.wake()
            wait_for(lambda: any("lease is lost" in str(one["event"]) for one in logs))
            heartbeat.stop()
