"""Segments, messages, customers and today as a person at the desk finds them."""

import threading
from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.channels.sender import Outgoing
from loyalbell.channels.smtp import SmtpSender
from loyalbell.core.messages.content import EmailContent, Text
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.segments.model import Group, OrdersCondition, Rule
from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.customers import ordering, profile
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.customers.ordering import CannotRingUp
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import preview
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.references import InUse
from loyalbell.services.scheduler import tick
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.settings import shop as shop_settings
from loyalbell.services.today.queries import today
from loyalbell.storage.schema import Item, LogEntry, Person
from loyalbell.storage.snapshot.cache import SnapshotCache
from tests.support import SHOP, ApplicationCase, FakeSender

ORDERED = Rule(root=Group(lines=[OrdersCondition()]))


class TheLedger(ApplicationCase):
    def test_a_reader_sees_every_write_at_once_from_any_process(self) -> None:
        self.assertEqual(segment_queries.read(self.application, ORDERED).people, 0)
        person = self.add_person()
        self.assertEqual(segment_queries.read(self.application, ORDERED).counts, [1, 0])
        other = Application(self.folder, self.clock)
        self.assertEqual(segment_queries.read(other, ORDERED).people, 0)
        self.add_order(person, 3)
        for application in (self.application, other):
            self.assertEqual(segment_queries.read(application, ORDERED).people, 1)
        other.close()

    def test_only_what_changed_is_read_again(self) -> None:
        self.add_order(self.add_person(), 3)
        keeper = SnapshotCache(self.application.database)
        before = keeper.current()
        self.assertIs(keeper.current(), before)
        self.add_order(1, 2)
        after = keeper.current()
        self.assertIs(after.people, before.people)
        self.assertEqual((len(before.orders), len(after.orders)), (1, 2))

    def test_many_readers_at_once(self) -> None:
        self.add_order(self.add_person(), 3)
        found: list[int] = []
        threads = [
            threading.Thread(target=lambda: found.append(len(self.application.snapshot().orders)))
            for _ in range(8)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(found, [1] * 8)


class Segments(ApplicationCase):
    def test_names_are_needed_and_unique(self) -> None:
        kept = segment_commands.keep(self.application, None, "  Away   60 ", ORDERED, "Ida")
        for name, words in (("", "Give the segment a name"), ("away 60", "already"), ("x" * 121, "too long")):
            with self.assertRaisesRegex(segment_queries.SegmentProblem, words):
                segment_commands.keep(self.application, None, name, ORDERED, "Ida")
        with self.assertRaisesRegex(segment_queries.SegmentProblem, "at least one line"):
            segment_commands.keep(self.application, None, "all", Rule(), "Ida")
        self.assertEqual(segment_commands.keep(self.application, kept, "Away 60", ORDERED, "Ida"), kept)

    def test_one_in_use_cannot_be_deleted(self) -> None:
        segment, message = self.lapsed_segment(), self.letter()
        campaign = campaign_commands.draft_campaign(self.application, "May", segment, message, "Ida")
        with self.assertRaisesRegex(InUse, "“May”"):
            segment_commands.drop(self.application, segment, "Ida")
        with self.assertRaisesRegex(InUse, "“May”"):
            message_commands.drop(self.application, message, "Ida")
        campaign_commands.discard_draft(self.application, campaign)
        segment_commands.drop(self.application, segment, "Ida")
        message_commands.drop(self.application, message, "Ida")

    def test_reach_and_money(self) -> None:
        rich, poor, away = (
            self.add_person("r@example.com"),
            self.add_person(None, "never asked"),
            self.add_person("x@example.com", "refused"),
        )
        self.add_order(rich, 10, 7_500)
        self.add_order(poor, 10, 2_500)
        self.add_order(away, 400, 99_999)
        reading = segment_queries.read(
            self.application, Rule(root=Group(lines=[OrdersCondition(measure="sum", value=5_000)]))
        )
        self.assertEqual(reading.people, 2)
        self.assertEqual(dict(reading.reach), {"email": 1, "text": 0, "chat": 0, "none of these": 1})
        self.assertEqual(reading.money_share, 0.75)
        self.assertEqual(
            [(m.person.id, m.orders, m.spent) for m in reading.some], [(rich, 1, 7_500), (away, 1, 99_999)]
        )


class Letters(ApplicationCase):
    def test_versions_follow_changes_and_what_was_sent_stays(self) -> None:
        person = self.add_person(first_name="Ann")
        self.add_order(person, 90)
        message = self.letter()
        content = message_queries.content_of(self.application, message)
        message_commands.keep(self.application, message, "Hello", content, "Ida")
        with self.application.database.reading() as session:
            self.assertEqual(campaign_commands.newest_version(session, message).number, 1)
        campaign = campaign_commands.draft_campaign(
            self.application, "May", self.lapsed_segment(), message, "Ida"
        )
        campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
        message_commands.keep(
            self.application, message, "Hello", content.model_copy(update={"subject": "Changed"}), "Ida"
        )
        sender = FakeSender()
        tick(self.application, sender)
        self.assertIn(b"Subject: Hi Ann", sender.handed[0].content)

    def test_real_readers_include_someone_without_a_name(self) -> None:
        self.add_person("w@example.com", first_name="Wil", last_name="Verylongname")
        self.add_person("n@example.com")
        why = {reader.why for reader in preview.readers(self.application)}
        self.assertLessEqual({"no name on file", "longest name"}, why)
        content = EmailContent(subject="s", blocks=[Text(text="Hi {{ first_name }}")], letterhead=1)
        with self.assertRaisesRegex(FieldProblem, "No first name"):
            preview.read_as(self.application, content, 2)
        self.assertIn("Hi Wil", preview.read_as(self.application, content, 1).html)


class TheBook(ApplicationCase):
    def test_search_by_words_and_phone_digits(self) -> None:
        ann = self.add_person("ann@example.com", first_name="Ann", last_name="O’Dell", phone="+12125550147")
        self.add_person("bo_b@example.com", first_name="José", last_name="Annesley", phone="+442079460123")
        cases = {
            "ann": 2,
            "Ann o’d": 1,
            "jose": 1,
            "JOSÉ": 1,
            "bo_b": 1,
            "ann@example.com": 1,
            "555-0147": 1,
            "0147": 1,
            "(212) 555-0147": 1,
            "+442079460123": 1,
            "%": 0,
            '"': 0,
            "*": 0,
            "ann OR bo": 0,
            "NOT": 0,
            "zz": 0,
            "ann -bo": 1,
        }
        for typed, people in cases.items():
            with self.subTest(typed):
                self.assertEqual(len(customer_queries.find(self.application, typed)), people)
        with self.application.database.transaction() as session:
            session.get_one(Person, ann).last_name = "Quill"
        self.assertEqual(len(customer_queries.find(self.application, "o’dell")), 0)
        self.assertEqual([line.person.id for line in customer_queries.find(self.application, "quill")], [ann])
        with self.application.database.transaction() as session:
            session.delete(session.get_one(Person, ann))
        self.assertEqual(customer_queries.find(self.application, "quill"), [])

    @given(st.text(max_size=40))
    def test_nothing_typed_breaks_the_search(self, typed: str) -> None:
        self.assertEqual(customer_queries.find(self.application, typed), [])

    def test_pages_follow_on_without_gaps(self) -> None:
        everyone = [self.add_person(f"p{at}@example.com", first_name="Pat") for at in range(7)]
        for typed in ("pat", ""):
            seen: list[int] = []
            while lines := customer_queries.find(self.application, typed, seen[-1] if seen else 0, limit=3):
                seen += [line.person.id for line in lines]
            self.assertEqual(seen, everyone)

    def test_the_diary_tells_everything_in_order(self) -> None:
        person = self.add_person(first_name="Ann")
        self.add_order(person, 90, 5_200)
        self.add_order(person, 80, 1_000, cancelled_at=self.clock.now() - timedelta(days=79))
        campaign = campaign_commands.draft_campaign(
            self.application, "May", self.lapsed_segment(), self.letter(), "Ida"
        )
        campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
        tick(self.application, FakeSender())
        page = profile.page_of(self.application, person)
        assert page
        self.assertEqual([entry.kind for entry in page.diary], ["message", "order", "order", "consent"])
        self.assertEqual((page.line.orders, page.line.spent), (1, 5_200))
        self.assertIn("Cancelled", page.diary[1].title)
        self.assertIsNone(profile.page_of(self.application, 99))

    def test_an_order_rung_up(self) -> None:
        person = self.add_person()
        with self.application.database.transaction() as session:
            session.add(Item(id=1, name="Bath", price_minor=4_800))
        ordering.ring_up(self.application, person, 1, "", "Ida")
        ordering.ring_up(self.application, person, 1, "12.50", "Ida")
        self.assertEqual(self.application.snapshot().orders.money.sum(), 6_050)
        for amount, words in (("abc", "not an amount"), ("0", "above zero"), ("-4", "above zero")):
            with self.assertRaisesRegex(CannotRingUp, words):
                ordering.ring_up(self.application, person, 1, amount, "Ida")
        with self.assertRaisesRegex(CannotRingUp, "no longer on file"):
            ordering.ring_up(self.application, 99, 1, "1", "Ida")


class TheDesk(ApplicationCase):
    def test_today_names_what_needs_a_person(self) -> None:
        self.assertEqual([need.title for need in today(self.application).needs], ["The book is empty"])
        person = self.add_person()
        self.assertEqual(today(self.application).needs, [])
        self.add_order(person, 90)
        self.add_order(person, 1)
        found = today(self.application)
        self.assertEqual([(back.person_id, back.away_days) for back in found.came_back], [(person, 89)])
        away = self.add_person("b@example.com")
        self.add_order(away, 90)
        campaign = campaign_commands.draft_campaign(
            self.application, "May", self.lapsed_segment(), self.letter(), "Ida"
        )
        self.assertIn("not sent yet", today(self.application).needs[0].title)
        campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
        tick(self.application, FakeSender("unsure", "lost"))
        need = today(self.application).needs[0]
        self.assertEqual((need.title, need.urgent), ("1 perhaps sent", True))
        shop_settings.switch(self.application, False, "Ida")
        self.assertIn("silent", today(self.application).needs[0].title)

    def test_settings_are_checked_and_followed(self) -> None:
        for change, words in (
            ({"name": " "}, "name"),
            ({"zone": "Mars"}, "time zone"),
            ({"currency": "XX"}, "currency"),
            ({"country": "USA"}, "two-letter code"),
            ({"sender_email": "me"}, "not an email"),
            ({"public_url": "shop.example"}, "https://"),
            ({"smtp_port": 0}, "port"),
        ):
            with self.assertRaisesRegex(shop_settings.NotSetUp, words):
                shop_settings.change_shop(
                    self.application, shop_settings.ShopForm(**(vars(SHOP) | change)), "Ida"
                )
        shop_settings.change_shop(
            self.application, shop_settings.ShopForm(**(vars(SHOP) | {"smtp_port": 2525})), "Ida"
        )
        asked: list[tuple[str, int]] = []

        def make(host: str, port: int, **more: object) -> FakeSender:
            asked.append((host, port))
            return FakeSender()

        ShopSender(self.application, make).send(
            [Outgoing(1, "a@shop.example", "b@example.com", "<1@x>", b"")]
        )
        self.assertEqual(asked, [("127.0.0.1", 2525)])
        self.assertIsNone(ShopSender(self.application, SmtpSender).knows("<x>"))
        with self.application.database.reading() as session:
            self.assertEqual(
                session.query(LogEntry).filter(LogEntry.act == "changed the settings").count(), 1
            )
