"""The folder that a till fills: what comes in by itself, and what waits for a person."""

import os
import tempfile
import time
import unittest
from pathlib import Path

from sqlalchemy import func, select

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import watched_folder
from loyalbell.services.imports.watched_folder import TAKEN, UNREAD, CannotWatch, WatchedSettings, Watcher
from loyalbell.services.settings.channels import loaded
from loyalbell.services.today.machine_needs import waiting_files
from loyalbell.storage.schema import ExternalId, ImportRun, Order
from tests.support import ApplicationCase

SALES = "Receipt,Date,Customer id,Total\n{rows}"


def rows(first: int, many: int, customer: str = "C1") -> str:
    return SALES.format(
        rows="".join(f"R{at},2026-05-{at % 28 + 1:02},{customer},5.00\n" for at in range(first, first + many))
    )


class WatchedFolder(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.watched = Path(held.name)
        watched_folder.settle(self.application, str(self.watched), "Ida")
        self.watcher = Watcher(self.application)
        person = self.add_person("c1@example.com")
        with self.application.database.transaction() as session:
            session.add(ExternalId(source="import", value="C1", person_id=person))

    def drop(self, name: str, text: str, old: float = 3_600) -> Path:
        path = self.watched / name
        path.write_text(text, encoding="utf-8")
        os.utime(path, (time.time() - old, time.time() - old))
        return path

    def look_twice(self) -> int:
        return self.watcher.look() + self.watcher.look()

    def orders(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(Order)) or 0

    def runs(self) -> list[ImportRun]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(ImportRun).order_by(ImportRun.id)))

    def explain(self) -> None:
        """A person brings a file with these columns in once."""
        self.drop("first.csv", rows(0, 10))
        self.look_twice()
        import_commands.carry_out(self.application, self.runs()[-1].id, True, lambda share, words: None)

    def test_the_first_of_its_kind_waits_and_the_next_comes_in(self) -> None:
        path = self.drop("monday.csv", rows(0, 10))
        self.assertEqual(self.look_twice(), 1)
        self.assertEqual((self.orders(), self.runs()[0].state), (0, "tried"))
        self.assertIn("monday.csv is waiting", waiting_files(self.application)[0].title)
        self.assertFalse(path.exists())
        self.assertEqual(len(list((self.watched / TAKEN).iterdir())), 1)
        import_commands.carry_out(self.application, self.runs()[0].id, True, lambda share, words: None)
        self.drop("tuesday.csv", rows(10, 5))
        self.look_twice()
        self.assertEqual((self.orders(), self.runs()[1].state), (15, "done"))
        self.assertEqual(waiting_files(self.application), [])
        self.assertEqual(
            [run.filename for run in watched_folder.lately(self.application)], ["tuesday.csv", "monday.csv"]
        )

    def test_a_file_that_is_still_being_written_is_left_alone(self) -> None:
        self.explain()
        self.drop("new.csv", rows(20, 5), old=1)
        self.assertEqual(self.look_twice(), 0)
        self.drop("new.csv", rows(20, 5), old=300)
        self.watcher.look()
        self.drop("new.csv", rows(20, 8), old=200)  # it has grown between two looks
        self.assertEqual(self.watcher.look(), 0)
        self.assertEqual(self.watcher.look(), 1)
        self.assertEqual(self.orders(), 18)

    def test_a_file_of_which_much_is_refused_waits(self) -> None:
        self.explain()
        self.drop("strangers.csv", rows(30, 6) + "R99,2026-05-01,C9,5.00\n")
        self.look_twice()
        self.assertEqual((self.runs()[-1].state, self.orders()), ("tried", 10))

    def test_a_file_that_cannot_be_read_is_put_aside_and_said(self) -> None:
        self.drop("noise.csv", "\x00\x01\x02")
        self.drop("notes.docx", "not ours")
        self.assertEqual(self.look_twice(), 1)
        run = self.runs()[-1]
        self.assertEqual((run.state, run.filename), ("failed", "noise.csv"))
        self.assertEqual(len(list((self.watched / UNREAD).iterdir())), 1)
        self.assertTrue((self.watched / "notes.docx").exists())

    def test_folders_that_cannot_be_watched(self) -> None:
        for folder, words in (
            ("till", "the whole path"),
            (str(self.watched / "none"), "There is no folder"),
            (str(self.folder), "its own files"),
            (str(self.folder.parent), "its own files"),
        ):
            with self.assertRaisesRegex(CannotWatch, words):
                watched_folder.settle(self.application, folder, "Ida")
        self.assertEqual(loaded(self.application, WatchedSettings).folder, str(self.watched))
        watched_folder.settle(self.application, "", "Ida")
        self.drop("monday.csv", rows(0, 10))
        self.assertEqual(self.look_twice(), 0)


if __name__ == "__main__":
    unittest.main()
