"""Segments, messages, customers and today as a person at the desk finds them."""

import threading
from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.channels.base import Outgoing
from loyalbell.channels.email_smtp import SmtpSender
from loyalbell.core.messages.content import EmailContent, Text
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.segments.model import Group, OrdersCondition, Rule
from loyalbell.desk import (
    campaigns,
    customer,
    customers,
    messages,
    ordering,
    reading_as,
    segments,
    setting_up,
)
from loyalbell.desk.desk import Desk
from loyalbell.desk.ledger_keeper import LedgerKeeper
from loyalbell.desk.ordering import CannotRingUp
from loyalbell.desk.sender_setting import ShopSender
from loyalbell.desk.ticking import tick
from loyalbell.desk.today import today
from loyalbell.store.tables import Item, LogEntry, Person
from tests.books import SHOP, DeskCase, FakeSender

ORDERED = Rule(root=Group(lines=[OrdersCondition()]))


class TheLedger(DeskCase):
    def test_a_reader_sees_every_write_at_once_from_any_process(self) -> None:
        self.assertEqual(segments.read(self.desk, ORDERED).people, 0)
        person = self.add_person()
        self.assertEqual(segments.read(self.desk, ORDERED).counts, [1, 0])
        other = Desk(self.folder, self.clock)
        self.assertEqual(segments.read(other, ORDERED).people, 0)
        self.add_order(person, 3)
        for desk in (self.desk, other):
            self.assertEqual(segments.read(desk, ORDERED).people, 1)
        other.close()

    def test_only_what_changed_is_read_again(self) -> None:
        self.add_order(self.add_person(), 3)
        keeper = LedgerKeeper(self.desk.book)
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
            threading.Thread(target=lambda: found.append(len(self.desk.ledger().orders))) for _ in range(8)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(found, [1] * 8)


class Segments(DeskCase):
    def test_names_are_needed_and_unique(self) -> None:
        kept = segments.keep(self.desk, None, "  Away   60 ", ORDERED, "Ida")
        for name, words in (("", "Give the segment a name"), ("away 60", "already"), ("x" * 121, "too long")):
            with self.assertRaisesRegex(segments.SegmentProblem, words):
                segments.keep(self.desk, None, name, ORDERED, "Ida")
        with self.assertRaisesRegex(segments.SegmentProblem, "at least one line"):
            segments.keep(self.desk, None, "all", Rule(), "Ida")
        self.assertEqual(segments.keep(self.desk, kept, "Away 60", ORDERED, "Ida"), kept)

    def test_one_in_use_cannot_be_deleted(self) -> None:
        segment, message = self.lapsed_segment(), self.letter()
        campaign = campaigns.draft_campaign(self.desk, "May", segment, message, "Ida")
        with self.assertRaisesRegex(segments.SegmentProblem, "“May”"):
            segments.drop(self.desk, segment, "Ida")
        with self.assertRaisesRegex(messages.MessageProblem, "“May”"):
            messages.drop(self.desk, message, "Ida")
        campaigns.discard_draft(self.desk, campaign)
        segments.drop(self.desk, segment, "Ida")
        messages.drop(self.desk, message, "Ida")

    def test_reach_and_money(self) -> None:
        rich, poor, away = (
            self.add_person("r@example.com"),
            self.add_person(None, "never asked"),
            self.add_person("x@example.com", "refused"),
        )
        self.add_order(rich, 10, 7_500)
        self.add_order(poor, 10, 2_500)
        self.add_order(away, 400, 99_999)
        reading = segments.read(
            self.desk, Rule(root=Group(lines=[OrdersCondition(measure="sum", value=5_000)]))
        )
        self.assertEqual(reading.people, 2)
        self.assertEqual(dict(reading.reach), {"email": 1, "text": 0, "chat": 0, "none of these": 1})
        self.assertEqual(reading.money_share, 0.75)
        self.assertEqual(
            [(m.person.id, m.orders, m.spent) for m in reading.some], [(rich, 1, 7_500), (away, 1, 99_999)]
        )


class Letters(DeskCase):
    def test_versions_follow_changes_and_what_was_sent_stays(self) -> None:
        person = self.add_person(first_name="Ann")
        self.add_order(person, 90)
        message = self.letter()
        content = messages.content_of(self.desk, message)
        messages.keep(self.desk, message, "Hello", content, "Ida")
        with self.desk.book.reading() as session:
            self.assertEqual(campaigns.newest_version(session, message).number, 1)
        campaign = campaigns.draft_campaign(self.desk, "May", self.lapsed_segment(), message, "Ida")
        campaigns.start_campaign(self.desk, campaign, 1, "Ida")
        messages.keep(self.desk, message, "Hello", content.model_copy(update={"subject": "Changed"}), "Ida")
        sender = FakeSender()
        tick(self.desk, sender)
        self.assertIn(b"Subject: Hi Ann", sender.handed[0].content)

    def test_real_readers_include_someone_without_a_name(self) -> None:
        self.add_person("w@example.com", first_name="Wil", last_name="Verylongname")
        self.add_person("n@example.com")
        why = {reader.why for reader in reading_as.readers(self.desk)}
        self.assertLessEqual({"no name on file", "longest name"}, why)
        content = EmailContent(subject="s", blocks=[Text(text="Hi {{ first_name }}")], letterhead=1)
        with self.assertRaisesRegex(FieldProblem, "No first name"):
            reading_as.read_as(self.desk, content, 2)
        self.assertIn("Hi Wil", reading_as.read_as(self.desk, content, 1).html)


class TheBook(DeskCase):
    def test_search_by_words_and_phone_digits(self) -> None:
        ann = self.add_person("ann@example.com", first_name="Ann", last_name="O’Dell", phone="+12125550147")
        self.add_person("bo_b@example.com", first_name="José", last_name="Annesley", phone="+442079460123")
        cases = {
            "ann": 2, "Ann o’d": 1, "jose": 1, "JOSÉ": 1, "bo_b": 1, "ann@example.com": 1, "555-0147": 1, "0147": 1,
            "(212) 555-0147": 1, "+442079460123": 1, "%": 0, '"': 0, "*": 0, "ann OR bo": 0, "NOT": 0, "zz": 0, "ann -bo": 1,
        }  # fmt: skip
        for typed, people in cases.items():
            with self.subTest(typed):
                self.assertEqual(len(customers.find(self.desk, typed)), people)
        with self.desk.book.writing() as session:
            session.get_one(Person, ann).last_name = "Quill"
        self.assertEqual(len(customers.find(self.desk, "o’dell")), 0)
        self.assertEqual([line.person.id for line in customers.find(self.desk, "quill")], [ann])
        with self.desk.book.writing() as session:
            session.delete(session.get_one(Person, ann))
        self.assertEqual(customers.find(self.desk, "quill"), [])

    @given(st.text(max_size=40))
    def test_nothing_typed_breaks_the_search(self, typed: str) -> None:
        self.assertEqual(customers.find(self.desk, typed), [])

    def test_pages_follow_on_without_gaps(self) -> None:
        everyone = [self.add_person(f"p{at}@example.com", first_name="Pat") for at in range(7)]
        for typed in ("pat", ""):
            seen: list[int] = []
            while lines := customers.find(self.desk, typed, seen[-1] if seen else 0, limit=3):
                seen += [line.person.id for line in lines]
            self.assertEqual(seen, everyone)

    def test_the_diary_tells_everything_in_order(self) -> None:
        person = self.add_person(first_name="Ann")
        self.add_order(person, 90, 5_200)
        self.add_order(person, 80, 1_000, cancelled_at=self.clock.now() - timedelta(days=79))
        campaign = campaigns.draft_campaign(self.desk, "May", self.lapsed_segment(), self.letter(), "Ida")
        campaigns.start_campaign(self.desk, campaign, 1, "Ida")
        tick(self.desk, FakeSender())
        page = customer.page_of(self.desk, person)
        assert page
        self.assertEqual([entry.kind for entry in page.diary], ["message", "order", "order", "consent"])
        self.assertEqual((page.line.orders, page.line.spent), (1, 5_200))
        self.assertIn("Cancelled", page.diary[1].title)
        self.assertIsNone(customer.page_of(self.desk, 99))

    def test_an_order_rung_up(self) -> None:
        person = self.add_person()
        with self.desk.book.writing() as session:
            session.add(Item(id=1, name="Bath", price_minor=4_800))
        ordering.ring_up(self.desk, person, 1, "", "Ida")
        ordering.ring_up(self.desk, person, 1, "12.50", "Ida")
        self.assertEqual(self.desk.ledger().orders.money.sum(), 6_050)
        for amount, words in (("abc", "not an amount"), ("0", "above zero"), ("-4", "above zero")):
            with self.assertRaisesRegex(CannotRingUp, words):
                ordering.ring_up(self.desk, person, 1, amount, "Ida")
        with self.assertRaisesRegex(CannotRingUp, "no longer on file"):
            ordering.ring_up(self.desk, 99, 1, "1", "Ida")


class TheDesk(DeskCase):
    def test_today_names_what_needs_a_person(self) -> None:
        self.assertEqual([need.title for need in today(self.desk).needs], ["The book is empty"])
        person = self.add_person()
        self.assertEqual(today(self.desk).needs, [])
        self.add_order(person, 90)
        self.add_order(person, 1)
        found = today(self.desk)
        self.assertEqual([(back.person_id, back.away_days) for back in found.came_back], [(person, 89)])
        away = self.add_person("b@example.com")
        self.add_order(away, 90)
        campaign = campaigns.draft_campaign(self.desk, "May", self.lapsed_segment(), self.letter(), "Ida")
        self.assertIn("not sent yet", today(self.desk).needs[0].title)
        campaigns.start_campaign(self.desk, campaign, 1, "Ida")
        tick(self.desk, FakeSender("unsure", "lost"))
        need = today(self.desk).needs[0]
        self.assertEqual((need.title, need.urgent), ("1 perhaps sent", True))
        setting_up.switch(self.desk, False, "Ida")
        self.assertIn("silent", today(self.desk).needs[0].title)

    def test_settings_are_checked_and_followed(self) -> None:
        for change, words in (
            ({"name": " "}, "name"), ({"zone": "Mars"}, "time zone"), ({"currency": "XX"}, "currency"),
            ({"country": "USA"}, "two letters"), ({"sender_email": "me"}, "not an email"),
            ({"public_url": "shop.example"}, "https://"), ({"smtp_port": 0}, "port"),
        ):  # fmt: skip
            with self.assertRaisesRegex(setting_up.NotSetUp, words):
                setting_up.change_shop(self.desk, setting_up.ShopForm(**(vars(SHOP) | change)), "Ida")
        setting_up.change_shop(self.desk, setting_up.ShopForm(**(vars(SHOP) | {"smtp_port": 2525})), "Ida")
        asked: list[tuple[str, int]] = []

        def make(host: str, port: int, **more: object) -> FakeSender:
            asked.append((host, port))
            return FakeSender()

        ShopSender(self.desk, make).send([Outgoing(1, "a@shop.example", "b@example.com", "<1@x>", b"")])
        self.assertEqual(asked, [("127.0.0.1", 2525)])
        self.assertIsNone(ShopSender(self.desk, SmtpSender).knows("<x>"))
        with self.desk.book.reading() as session:
            self.assertEqual(
                session.query(LogEntry).filter(LogEntry.act == "changed the settings").count(), 1
            )
