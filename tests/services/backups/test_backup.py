"""A backup is whole, also of a book that is being written to; a damaged one is told; the old ones go."""

import sqlite3
import threading
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from alembic import command

from loyalbell.services.application import Application
from loyalbell.services.backups import commands, queries
from loyalbell.services.backups.settings import BackupSettings
from loyalbell.services.settings.channels import keep
from loyalbell.storage import backup_file
from loyalbell.storage.backup_file import BackupProblem, Contents
from loyalbell.storage.opening import migration_config, newest_revision
from loyalbell.storage.schema import Person
from tests.support import NOW, ApplicationCase

PAIRS = 40


class BackupTest(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.add_person()
        self.backups = self.folder / backup_file.FOLDER

    def test_it_holds_the_book_and_what_was_uploaded(self) -> None:
        (self.folder / "imports").mkdir()
        (self.folder / "imports" / "till.csv").write_text("a,b\n")
        made = commands.make(self.application, by="Ida")
        contents = backup_file.check(made.path)
        self.assertEqual([entry.name for entry in contents.entries], ["book.sqlite3", "imports/till.csv"])
        self.assertEqual((contents.shop, contents.people, contents.why), ("Test Shop", 1, "by hand"))
        self.assertEqual(contents.revision, newest_revision())
        self.assertEqual(contents.book_time, NOW)
        self.assertEqual(made.path.stat().st_mode & 0o777, 0o600)
        self.assertEqual(list(self.backups.glob(".*")), [], "nothing half-made is left")

    def test_while_it_is_written_to_it_holds_one_state(self) -> None:
        """Two rows are written in each transaction: a copy of one state has an even number of them."""
        stop = threading.Event()

        def write() -> None:
            while not stop.is_set():
                with self.application.database.transaction() as session:
                    session.add_all([Person(joined_at=NOW), Person(joined_at=NOW)])

        writer = threading.Thread(target=write)
        writer.start()
        try:
            counts = [self.people_in(commands.make(self.application).path) for _ in range(4)]
        finally:
            stop.set()
            writer.join()
        self.assertEqual([(count - 1) % 2 for count in counts], [0] * 4)
        self.assertEqual(counts, sorted(counts))
        self.assertGreater(counts[-1], counts[0], "nothing was written meanwhile")

    def book_in(self, path: Path) -> bytes:
        with backup_file.unpacked(path, self.folder) as (folder, _):
            return (folder / "book.sqlite3").read_bytes()

    def is_told_or_harmless(self, path: Path, whole: bytes) -> bool:
        """A zip also holds dates and rights that nobody reads: there the book is the same byte for byte."""
        try:
            return self.book_in(path) == whole
        except BackupProblem:
            return True

    def people_in(self, path: Path) -> int:
        with (
            backup_file.unpacked(path, self.folder) as (folder, _),
            sqlite3.connect(folder / "book.sqlite3") as book,
        ):
            return int(book.execute("SELECT count(*) FROM person").fetchone()[0])

    def test_a_damaged_one_is_told(self) -> None:
        made = commands.make(self.application)
        whole, whole_book = made.path.read_bytes(), self.book_in(made.path)
        for place in range(200, len(whole) - 200, len(whole) // PAIRS):
            broken = bytearray(whole)
            broken[place] ^= 0xFF
            made.path.write_bytes(bytes(broken))
            with self.subTest(place=place):
                self.assertTrue(self.is_told_or_harmless(made.path, whole_book))
        made.path.write_bytes(whole[: len(whole) // 2])
        with self.assertRaisesRegex(BackupProblem, "only a part"):
            backup_file.check(made.path)

    def test_one_that_was_packed_anew_with_something_else_is_told(self) -> None:
        """The zip is sound, and what is in it is as long as before."""
        (self.folder / "imports").mkdir()
        (self.folder / "imports" / "till.csv").write_text("a,b\n")
        made = commands.make(self.application)
        with zipfile.ZipFile(made.path) as file:
            held = {name: file.read(name) for name in file.namelist()}
        with zipfile.ZipFile(made.path, "w") as file:
            for name, content in (held | {"imports/till.csv": b"a,c\n"}).items():
                file.writestr(name, content)
        with self.assertRaisesRegex(BackupProblem, "till.csv is not what was put into it"):
            backup_file.check(made.path)

    def test_a_file_that_would_land_outside_is_refused(self) -> None:
        path = self.folder / "evil.zip"
        entry = backup_file.Entry(name="../outside", size=1, sha256="")
        contents = Contents(
            made_at=NOW, book_time=NOW, why="by hand", version="1", revision="1", entries=[entry]
        )
        with zipfile.ZipFile(path, "w") as file:
            file.writestr("../outside", "x")
            file.writestr(backup_file.LIST_IN_IT, contents.model_dump_json())
        with self.assertRaisesRegex(BackupProblem, "outside its folder"):
            backup_file.check(path)

    def test_without_room_it_says_so_on_today_too(self) -> None:
        usage = mock.Mock(free=10**6)
        with mock.patch.object(backup_file.shutil, "disk_usage", return_value=usage):
            with self.assertRaisesRegex(BackupProblem, "too little room"):
                commands.make(self.application)
            self.assertIn("too little room", queries.standing(self.application).trouble)
        commands.make(self.application)
        self.assertEqual(queries.standing(self.application).trouble, "")

    def test_the_oldest_made_by_the_clock_go_and_no_others(self) -> None:
        keep(self.application, BackupSettings(keep=2), "backups", "Ida")
        mine = commands.make(self.application, by="Ida").path
        made = [commands.make(self.application, commands.BY_THE_CLOCK).path for _ in range(4)]
        there = {backup.path for backup in queries.standing(self.application).backups}
        self.assertEqual(there, {mine, *made[2:]})

    def test_the_clock_makes_one_when_the_newest_is_old_enough(self) -> None:
        now = datetime.now(UTC)
        self.assertTrue(commands.is_due(self.application, now))
        commands.make(self.application)
        self.assertFalse(commands.is_due(self.application, now + timedelta(hours=23)))
        self.assertTrue(commands.is_due(self.application, now + timedelta(hours=25)))

    def test_before_an_upgrade_one_is_made(self) -> None:
        self.application.close()
        command.downgrade(migration_config(f"sqlite:///{self.folder / 'book.sqlite3'}"), "0014")
        application = Application(self.folder, self.clock)
        self.addCleanup(application.close)
        (made,) = backup_file.backups_in(self.backups)
        assert made.contents is not None
        self.assertEqual((made.contents.why, made.contents.revision), ("before an upgrade", "0014"))
