"""The log: a chain that shows what was changed, rows that cannot be, filters, and how long it is kept."""

import csv
import hashlib
import io
import json
import os
import sqlite3
import time
from datetime import date, timedelta

from sqlalchemy import select, text
from sqlalchemy.exc import DatabaseError
from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.core.changes import changes
from loyalbell.services import retention
from loyalbell.services.application import FROM_WHERE
from loyalbell.services.log import queries
from loyalbell.services.log.queries import LogFilter
from loyalbell.services.retention import RetentionSettings
from loyalbell.services.settings import channels, shop
from loyalbell.services.settings.channels import EmailSettings, keep
from loyalbell.storage import log_chain
from loyalbell.storage.schema import Event, ImportRun, LogEntry
from tests.support import NOW, SHOP, ApplicationCase


class LogCase(ApplicationCase):
    def note(self, *acts: str, by: str = "Ida", **detail: object) -> None:
        with self.application.database.transaction() as session:
            for act in acts:
                self.application.note(session, by, act, **detail)

    def entries(self) -> list[LogEntry]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(LogEntry).order_by(LogEntry.id)))

    def checked(self) -> log_chain.Checked:
        return queries.checked(self.application)

    def by_hand(self, *statements: str) -> None:
        """As somebody with the file and a tool for it would."""
        with sqlite3.connect(self.folder / "book.sqlite3") as book:
            for statement in statements:
                book.execute(statement)


class Chain(LogCase):
    def test_each_entry_holds_the_hash_of_all_before(self) -> None:
        """Worked out here by hand: SHA-256 over the JSON of hash, seconds, who, act, detail, from."""
        self.note("first", n=1)
        self.note("second", of=("a", "ü"))
        expected = ""
        for one in self.entries():
            row = [expected, int(one.at.timestamp()), one.by, one.act, one.detail, one.source]
            said = json.dumps(row, sort_keys=True, separators=(",", ":"))
            expected = hashlib.sha256(said.encode()).hexdigest()
            self.assertEqual(one.chain, expected)
        self.assertEqual(self.checked(), log_chain.Checked(2, None, expected))

    def test_several_in_one_transaction_and_others_in_between(self) -> None:
        with self.application.database.transaction() as session:
            self.application.note(session, "Ida", "one")
            self.application.note(session, "Ida", "two")
            with self.application.database.turn_for_others(session):
                self.note("of another")
            self.application.note(session, "Ida", "three")
        self.assertEqual([one.act for one in self.entries()], ["one", "two", "of another", "three"])
        self.assertIsNone(self.checked().broken)

    def test_the_book_refuses_to_change_or_cut_it(self) -> None:
        self.note("first", "second")
        for statement in ("UPDATE log_entry SET act = 'x'", "DELETE FROM log_entry WHERE id = 1"):
            with (
                self.assertRaisesRegex(DatabaseError, "the log is never"),
                self.application.database.transaction() as session,
            ):
                session.execute(text(statement))
        self.assertEqual(len(self.entries()), 2)

    def test_what_was_changed_in_the_file_itself_is_seen(self) -> None:
        away = ("DROP TRIGGER log_entry_stays", "DROP TRIGGER log_entry_is_kept")
        for number, statement in enumerate(
            (
                "UPDATE log_entry SET act = 'nothing' WHERE id = 3",
                "UPDATE log_entry SET source = '10.0.0.9' WHERE id = 3",
                "UPDATE log_entry SET at = at - 60 WHERE id = 3",
                "DELETE FROM log_entry WHERE id = 3",
                "INSERT INTO log_entry (id, at, by, act, detail, source, chain) SELECT 99, at, by, act,"
                " detail, source, chain FROM log_entry WHERE id = 2",
            )
        ):
            with self.subTest(statement):
                case = LogCase("by_hand")
                case.setUp()
                self.addCleanup(case.doCleanups)
                case.note("a", "b", "c", "d")
                self.assertIsNone(case.checked().broken)
                case.by_hand(*away, statement)
                self.assertEqual(case.checked().broken, (3, 3, 3, 4, 99)[number])
                result = CliRunner().invoke(app, ["verify", str(case.folder)])
                self.assertEqual(result.exit_code, 1)
                self.assertIn("was changed", result.output.replace("\n", " "))

    def test_verify_says_the_end_of_it(self) -> None:
        self.note("first")
        result = CliRunner().invoke(app, ["verify", str(self.folder), "--json"])
        said = json.loads(result.output)
        self.assertEqual((said["log entries"], said["log end"]), (1, self.checked().end))


class Detail(LogCase):
    def test_settings_say_before_and_after_and_no_secret(self) -> None:
        keep(self.application, EmailSettings(user="u", password="old"), "email", "Ida")
        keep(self.application, EmailSettings(user="v", password="new"), "email", "Ida")
        detail = self.entries()[-1].detail
        self.assertEqual(detail["before"], {"user": "u", "password": "(kept secret)"})
        self.assertEqual(detail["after"], {"user": "v", "password": "(kept secret)"})
        shop.change_shop(self.application, SHOP.__class__(**(vars(SHOP) | {"name": "New"})), "Ida")
        detail = self.entries()[-1].detail
        self.assertEqual((detail["before"], detail["after"]), ({"name": "Test Shop"}, {"name": "New"}))
        channels.change_holdout(self.application, 5, "Ida")
        self.assertEqual(self.entries()[-1].detail["after"], {"percent": 5})

    def test_only_what_differs(self) -> None:
        self.assertEqual(changes({"a": 1, "b": 2}, {"a": 1, "b": 2}), {})
        self.assertEqual(
            changes({"a": 1, "gone": True}, {"a": [2], "k": "x"}, ("k",)),
            {
                "before": {"a": 1, "gone": True, "k": ""},
                "after": {"a": "[2]", "gone": None, "k": "(kept secret)"},
            },
        )
        self.assertEqual(len(changes({"a": ""}, {"a": "x" * 900})["after"]["a"]), 300)

    def test_from_where(self) -> None:
        held = FROM_WHERE.set("10.1.2.3")
        self.addCleanup(FROM_WHERE.reset, held)
        self.note("looked")
        self.assertEqual(self.entries()[-1].source, "10.1.2.3")


class Reading(LogCase):
    def acts(self, **asked: object) -> list[str]:
        return [one.act for one in queries.entries(self.application, LogFilter(**asked))]  # type: ignore[arg-type]

    def test_by_who_what_words_and_days(self) -> None:
        self.note("signed in")
        self.note("saved a segment", segment="Lapsed")
        self.clock.move_on(timedelta(days=1))
        self.note("downloaded customers", by="Bo", form="csv")
        self.assertEqual(self.acts(), ["downloaded customers", "saved a segment", "signed in"])
        self.assertEqual(self.acts(who="Bo"), ["downloaded customers"])
        self.assertEqual(self.acts(kind="downloads"), ["downloaded customers"])
        self.assertEqual(self.acts(kind="signing in"), ["signed in"])
        self.assertEqual(self.acts(words="lapsed"), ["saved a segment"])
        day = NOW.date()
        self.assertEqual(self.acts(last=day), ["saved a segment", "signed in"])
        self.assertEqual(self.acts(first=day + timedelta(days=1)), ["downloaded customers"])
        self.assertEqual(self.acts(first=date(2031, 1, 1)), [])
        self.assertEqual(queries.everyone(self.application), ["Bo", "Ida"])

    def test_a_page_after_the_other(self) -> None:
        self.note(*(f"act {number}" for number in range(5)))
        first = queries.entries(self.application, LogFilter(), limit=2)
        then = queries.entries(self.application, LogFilter(), before=first[-1].id, limit=2)
        self.assertEqual([one.act for one in first + then], ["act 4", "act 3", "act 2", "act 1"])

    def test_as_csv_no_cell_is_run_as_a_formula(self) -> None:
        self.note("=cmd|' /C calc'!A0", by="@SUM(1)")
        rows = list(csv.reader(io.StringIO("".join(queries.as_csv(self.application, LogFilter())))))
        self.assertEqual(rows[1][2], "'@SUM(1)")
        self.assertEqual(rows[1][4], "'=cmd|' /C calc'!A0")
        self.assertEqual(rows[1][6], self.checked().end)


class Kept(LogCase):
    def settle(self, **values: int) -> None:
        with self.application.database.transaction() as session:
            RetentionSettings(**values).save(session)

    def test_old_entries_go_from_the_start_and_the_rest_is_still_whole(self) -> None:
        self.note("long ago", "long ago too")
        self.clock.move_on(timedelta(days=100))
        self.note("now")
        self.assertEqual(retention.tidy(self.application).entries, 0)
        self.settle(log_months=2)
        self.assertEqual(retention.would_go(self.application, RetentionSettings(log_months=2)).entries, 2)
        self.assertEqual(retention.tidy(self.application).entries, 2)
        self.assertEqual([one.act for one in self.entries()], ["now", "deleted what was older than is kept"])
        self.assertIsNone(self.checked().broken)
        self.assertEqual(retention.tidy(self.application).entries, 0)
        self.by_hand("UPDATE log_start SET chain = 'x'")
        self.assertEqual(self.checked().broken, 3)

    def test_where_all_is_old_the_newest_stays(self) -> None:
        self.note("a", "b")
        with self.application.database.transaction() as session:
            self.assertEqual(log_chain.cut_before(session, NOW + timedelta(days=9)), 1)
        self.assertEqual([one.act for one in self.entries()], ["b"])
        self.assertIsNone(self.checked().broken)

    def test_uploaded_files_and_events_go_after_their_time(self) -> None:
        person = self.add_person()
        with self.application.database.transaction() as session:
            for days in (400, 10):
                session.add(Event(person_id=person, kind="visit", at=NOW - timedelta(days=days)))
            for number, (state, days) in enumerate((("done", 91), ("done", 89), ("running", 200)), start=1):
                session.add(
                    ImportRun(
                        id=number,
                        kind="customers",
                        filename="x.csv",
                        mapping={},
                        state=state,
                        started_at=NOW - timedelta(days=days),
                    )
                )
        folder = self.folder / "imports"
        folder.mkdir()
        names = ("1.table", "1.source", "1-refused.csv", "2.table", "3.table", "new-77.source")
        for name in names:
            (folder / name).write_text("a@b.example")
        old = time.time() - 91 * 86_400
        os.utime(folder / "new-77.source", (old, old))
        would = retention.would_go(self.application, RetentionSettings(event_months=12))
        self.assertEqual((would.files, would.events), (4, 1))
        self.assertEqual(len(list(folder.iterdir())), 6)
        self.settle(event_months=12)
        self.assertEqual((retention.tidy(self.application).files), 4)
        self.assertEqual(sorted(path.name for path in folder.iterdir()), ["2.table", "3.table"])
        with self.application.database.reading() as session:
            self.assertEqual(len(session.scalars(select(Event)).all()), 1)
