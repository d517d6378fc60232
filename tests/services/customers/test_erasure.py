"""Erasing: nothing of the person is left in any table, and their address stays suppressed."""

import io
import json
import sqlite3
import zipfile
from typing import Any

from sqlalchemy import delete, func, inspect, select, text

from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.customers import erasure, own_data
from loyalbell.services.delivery.claiming import suppressed_addresses
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.settings import secrets_at_rest
from loyalbell.storage import person_rows
from loyalbell.storage.erased_addresses import mark_of
from loyalbell.storage.schema import (
    Base,
    ConsentEntry,
    Delivery,
    Event,
    ImportRun,
    Note,
    Person,
    Preference,
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

    def test_the_file_itself_holds_no_address_any_more(self) -> None:
        self.erase()
        with self.application.database.reading() as session:
            self.assertEqual(session.execute(text("PRAGMA secure_delete")).scalar(), 1)
        self.application.close()
        with sqlite3.connect(self.folder / "book.sqlite3") as book:
            book.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        held = b"".join(path.read_bytes() for path in self.folder.glob("book.sqlite3*")).lower()
        for word in (EMAIL, PHONE, CHAT):
            self.assertNotIn(word.lower().encode(), held, word)

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

    def test_one_address_on_two_channels_has_two_marks(self) -> None:
        marks = {mark_of(self.application.secrets, one, PHONE, make=True) for one in ("text", "chat")}
        self.assertEqual(len(marks), 2)

    def test_the_hash_tells_nothing_without_the_key(self) -> None:
        self.erase()
        with self.application.database.reading() as session:
            kept = session.scalars(select(Suppression)).all()
        self.assertEqual({one.channel for one in kept}, {"email", "text", "chat"})
        for one in kept:
            self.assertRegex(one.address, r"^hashed:[0-9a-f]{8}:[0-9a-f]{32}$")
        self.assertEqual(len({one.address for one in kept}), 3)


class Traces(ErasureCase):
    def test_what_an_import_would_put_back_and_rows_it_shows_go_too(self) -> None:
        content = f"Email,First name\n{EMAIL},{NAME}a\n".encode()
        run = import_commands.begin_import(self.application, "customers", "x.csv", io.BytesIO(content), "Ida")
        for write in (False, True):
            import_commands.carry_out(self.application, run.id, write, lambda share, words: None)
        with self.application.database.transaction() as session:
            kept = session.get_one(ImportRun, run.id)
            shown = {"cause": "x", "examples": [[2, f"{EMAIL} is no number", None]], "count": 3}
            kept.problems = [shown]
        self.assertIn("import_change: (1, ", self.everything())
        self.erase()
        left = [line for line in self.everything().splitlines() if NAME in line or EMAIL in line]
        self.assertEqual(left, [])
        kept = self.application.find(ImportRun, run.id)
        assert kept
        self.assertEqual(kept.problems, [{"cause": "x", "examples": [], "count": 3}])

    def test_the_receipt_says_what_went_and_names_nobody(self) -> None:
        self.erase()
        done = erasure.receipt(self.application)
        assert done
        self.assertEqual((done.people, done.by), (1, "Ida"))
        expected = {
            "Orders": 1,
            "On the site or in the app": 1,
            "Notes": 1,
            "What was said about messages": 1,
        }
        self.assertEqual(done.removed, expected)
        self.assertEqual(erasure.receipt(self.application, done.number), done)
        self.assertIsNone(erasure.receipt(self.application, 99))


class OwnData(ErasureCase):
    def test_every_table_about_people_is_in_it(self) -> None:
        """What belongs to a person is told by the tables themselves: a new one without a title shows here."""
        tables = {one.table.name for one in person_rows.holdings()}
        self.assertEqual(tables - set(own_data.TITLES), set())
        leads = {
            table.name
            for table in Base.metadata.sorted_tables
            for key in table.foreign_keys
            if key.column.table.name in {"person", *(one.table.name for one in person_rows.holdings())}
        }
        self.assertEqual(leads - tables, set())

    def test_a_page_and_json_with_all_of_one_person_and_nothing_of_another(self) -> None:
        other = self.add_person("other@example.com", first_name="Somebody")
        self.add_order(other, 3)
        with self.application.database.transaction() as session:
            session.add(Note(person_id=self.person, at=NOW, by="Ida", text="<script>alert(1)</script>"))
            session.add(Preference(person_id=self.person, token="secret-token"))
        made = own_data.as_zip(self.application, self.person)
        assert made
        pack = zipfile.ZipFile(io.BytesIO(made))
        self.assertEqual(pack.namelist(), ["everything.json", "everything.html"])
        said = json.loads(pack.read("everything.json"))["parts"]
        page = pack.read("everything.html").decode()
        self.assertEqual(said["About you"][0]["email"], EMAIL)
        self.assertEqual(len(said["Orders"]), 1)
        self.assertEqual(said["Orders"][0]["total_minor"], 1_000)
        self.assertIn(f"{NAME} likes tea", page)
        self.assertIn("&lt;script&gt;", page)
        for word in ("<script>", "Somebody", "other@example.com", "secret-token"):
            self.assertNotIn(word, page + json.dumps(said).replace("<script>alert(1)</script>", ""))
        self.assertIsNone(own_data.as_zip(self.application, 99))


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
