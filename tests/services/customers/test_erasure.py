"""Erasing: nothing of the person is left in any table, and their address stays suppressed."""

import io
from typing import Any

from sqlalchemy import delete, func, inspect, select, text

from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.customers import erasure
from loyalbell.services.delivery.claiming import suppressed_addresses
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.settings import secrets_at_rest
from loyalbell.storage.schema import (
    ConsentEntry,
    Delivery,
    Event,
    Note,
    Person,
    Reply,
    Shop,
    SignUp,
    Suppression,
)
from tests.support import NOW, ApplicationCase

EMAIL, PHONE, CHAT, NAME = "Zenobia.Quist@Example.com", "+12125550199", "zenobia-chats", "Zenobia"


class ErasureCase(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.person = self.add_person(
            EMAIL, first_name=NAME, last_name="Quist", phone=PHONE, chat_handle=CHAT, city="Quistville"
        )
        self.add_order(self.person, 10)
        with self.application.database.transaction() as session:
            session.add(Event(person_id=self.person, kind="visit", at=NOW, properties={"who": NAME}))
            session.add(Note(person_id=self.person, at=NOW, by="Ida", text=f"{NAME} likes tea"))
            session.add(SignUp(token="t", email=EMAIL.lower(), mailbox="", answers={"n": NAME}, at=NOW))
            # from a file of refusals, before the person was on file
            session.add(Suppression(channel="email", address=EMAIL.lower(), reason="by hand", at=NOW))

    def erase(self) -> None:
        self.assertEqual(erasure.erase(self.application, [self.person], "Ida"), 1)

    def everything(self) -> str:
        """All that stands in any table, searched as text."""
        with self.application.database.reading() as session:
            tables = inspect(session.connection()).get_table_names()
            return "\n".join(
                f"{table}: {tuple(row)}"
                for table in tables
                for row in session.execute(text(f'SELECT * FROM "{table}"'))
            )

    def suppressed(self, address: str, channel: str = "email") -> bool:
        with self.application.database.reading() as session:
            return bool(suppressed_addresses(session, [address], channel))

    def add(self, **facts: Any) -> int:
        with self.application.database.transaction() as session:
            person = Person(joined_at=NOW, **facts)
            session.add(person)
            session.flush()
            session.add(
                ConsentEntry(person_id=person.id, channel="email", state="agreed", at=NOW, source="test")
            )
            return person.id


class Erased(ErasureCase):
    def test_no_table_holds_anything_of_the_person(self) -> None:
        self.assertIn(PHONE, self.everything())
        self.erase()
        left = self.everything()
        for word in (EMAIL, EMAIL.lower(), PHONE, CHAT, NAME, "Quist"):
            lines = [line for line in left.splitlines() if word in line]
            self.assertEqual(lines, [], word)

    def test_the_addresses_stay_suppressed_whatever_the_size_of_letters(self) -> None:
        self.erase()
        for address in (EMAIL, EMAIL.lower(), EMAIL.upper()):
            self.assertTrue(self.suppressed(address))
        self.assertTrue(self.suppressed(PHONE, "text"))
        self.assertTrue(self.suppressed(CHAT, "chat"))
        self.assertFalse(self.suppressed(PHONE, "email"))
        self.assertFalse(self.suppressed("another@example.com"))

    def test_who_comes_back_by_a_file_is_suppressed_at_once(self) -> None:
        self.erase()
        content = f"Email,First name\n{EMAIL},Zenobia\nother@example.com,Bo\n".encode()
        run = import_commands.begin_import(self.application, "customers", "x.csv", io.BytesIO(content), "Ida")
        for write in (False, True):
            import_commands.carry_out(self.application, run.id, write, lambda share, words: None)
        with self.application.database.reading() as session:
            back = session.scalars(select(Person).where(func.lower(Person.email) == EMAIL.lower())).one()
            own = session.scalars(select(Suppression).where(Suppression.person_id == back.id)).all()
        self.assertEqual([(one.channel, one.reason) for one in own], [("email", "erased")])

    def test_a_changed_address_counts_too(self) -> None:
        self.erase()
        other = self.add(email="new@example.com")
        with self.application.database.transaction() as session:
            session.get_one(Person, other).phone = PHONE
        with self.application.database.reading() as session:
            own = session.scalars(select(Suppression).where(Suppression.person_id == other)).all()
        self.assertEqual([(one.channel, one.address) for one in own], [("text", PHONE)])
        snapshot = self.application.snapshot()
        self.assertEqual(len(snapshot.suppressions), 1)

    def test_the_hash_tells_nothing_without_the_key(self) -> None:
        self.erase()
        with self.application.database.reading() as session:
            kept = session.scalars(select(Suppression)).all()
        self.assertEqual({one.channel for one in kept}, {"email", "text", "chat"})
        for one in kept:
            self.assertRegex(one.address, r"^hashed:[0-9a-f]{8}:[0-9a-f]{32}$")
        self.assertEqual(len({one.address for one in kept}), 3)


class KeyLost(ErasureCase):
    def test_nothing_leaves_until_somebody_has_looked(self) -> None:
        self.erase()
        self.application.close()
        (self.folder / "secret.key").unlink()
        application = Application(self.folder, self.clock)
        self.addCleanup(application.close)
        secrets_at_rest.look_after(application)
        self.assertFalse(application.the_shop().ringing)
        with application.database.transaction() as session:
            self.assertEqual(secrets_at_rest.unknown_erased(session), 3)
            session.get_one(Shop, 1).ringing = True
        # who has looked and switched it on is not switched off again
        secrets_at_rest.look_after(application)
        self.assertTrue(application.the_shop().ringing)

    def test_with_its_key_a_book_stays_as_it_is(self) -> None:
        self.erase()
        secrets_at_rest.look_after(self.application)
        self.assertTrue(self.application.the_shop().ringing)

    def test_an_older_book_is_hashed_at_its_first_start(self) -> None:
        with self.application.database.transaction() as session:
            session.add(Suppression(channel="email", address="old@example.com", reason="erased", at=NOW))
        secrets_at_rest.look_after(self.application)
        self.assertNotIn("old@example.com", self.everything())
        self.assertTrue(self.suppressed("OLD@example.com"))


class OfMessages(ErasureCase):
    def test_messages_and_replies_go_too(self) -> None:
        with self.application.database.transaction() as session:
            session.execute(delete(Suppression))
        campaign = campaign_commands.draft_campaign(
            self.application, "Spring", self.lapsed_segment(5), self.letter(), "Ida", ["email"]
        )
        campaign_commands.start_campaign(self.application, campaign, 1, "Ida")
        with self.application.database.transaction() as session:
            sent = session.scalars(select(Delivery)).one()
            self.assertEqual(sent.address, EMAIL)
            about = {"at": NOW, "kind": "answer", "state": "new", "text": NAME, "network_id": "n"}
            session.add(Reply(person_id=self.person, channel="email", address=EMAIL, **about))
            # from before they were on file
            session.add(Reply(channel="text", address=PHONE, **about))
        self.erase()
        self.assertNotIn(EMAIL, self.everything())
