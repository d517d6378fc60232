"""A book opens, or it is said which one does not, why, and what to do; and nothing is overwritten."""

import hashlib
import os
import random
import shutil
import signal
import sqlite3
import time
import unittest
from pathlib import Path

from alembic import command

from loyalbell.storage.database import BOOK_FILE, Database
from loyalbell.storage.opening import (
    BookProblem,
    DatabaseTooNew,
    migration_config,
    newest_revision,
    revision_of,
)
from tests.storage.test_migrations import fill
from tests.support import scratch_folder

KILLS, SEED, NOBODY = 12, 5, 65_534
OLD = "0009"


def old_book(folder: Path, revision: str = OLD) -> dict[str, int]:
    """A book of an earlier version with rows in every table, and how many by table."""
    command.upgrade(migration_config(f"sqlite:///{folder / BOOK_FILE}"), revision)
    return fill(folder / BOOK_FILE)


def killed_while_opening(folder: Path, seconds: float, within: tuple[str, ...] = ()) -> bool:
    """Opens the book in a child that is killed after so long. Whether it was still at it."""
    child = os.fork()
    if child == 0:
        try:
            Database(folder).close()
        finally:
            os._exit(0)
    time.sleep(seconds)
    was_done = bool(os.waitpid(child, os.WNOHANG)[0])
    if not was_done:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
    return not was_done


def state_of(path: Path) -> tuple[str, list[tuple[str, ...]]]:
    """The migration of a book, and what SQLite's own check finds in it."""
    connection = sqlite3.connect(path)
    found = connection.execute("PRAGMA integrity_check").fetchall()
    connection.close()
    return revision_of(path), found


class KilledWhileOpening(unittest.TestCase):
    def test_a_first_start_killed_leaves_no_book_or_a_whole_one(self) -> None:
        rng = random.Random(SEED)
        for _ in range(KILLS):
            folder = scratch_folder(self)
            killed_while_opening(folder, rng.uniform(0.01, 0.8))
            if (folder / BOOK_FILE).exists():
                self.assertEqual(state_of(folder / BOOK_FILE), (newest_revision(), [("ok",)]))
            Database(folder).close()

    def test_an_upgrade_killed_leaves_the_old_book_or_the_new_one(self) -> None:
        rng, old = random.Random(SEED), scratch_folder(self)
        rows = old_book(old)
        for _ in range(KILLS):
            folder = scratch_folder(self)
            shutil.copytree(old, folder, dirs_exist_ok=True)
            killed_while_opening(folder, rng.uniform(0.01, 0.8))
            revision, check = state_of(folder / BOOK_FILE)
            self.assertIn(revision, (OLD, newest_revision()))
            self.assertEqual(check, [("ok",)])
            Database(folder).close()
            self.assertEqual(revision_of(folder / BOOK_FILE), newest_revision())
            with sqlite3.connect(folder / BOOK_FILE) as connection:
                self.assertEqual(
                    connection.execute("SELECT count(*) FROM person").fetchone()[0], rows["person"]
                )

    def test_a_copy_is_put_away_before_the_upgrade(self) -> None:
        folder, seen = scratch_folder(self), list[tuple[Path, str, str]]()
        old_book(folder)
        Database(folder, lambda path, said: seen.append((path, said, revision_of(path)))).close()
        self.assertEqual(seen, [(folder / BOOK_FILE, OLD, OLD)])
        Database(folder, lambda path, said: seen.append((path, said, ""))).close()
        self.assertEqual(len(seen), 1, "a book of today is not copied at each start")


class WrongBooks(unittest.TestCase):
    def refused(self, folder: Path, *words: str) -> None:
        path = folder / BOOK_FILE
        before = hashlib.sha256(path.read_bytes()).hexdigest()
        with self.assertRaises(BookProblem) as caught:
            Database(folder)
        for some in (str(path), *words):
            self.assertIn(some, str(caught.exception))
        self.assertEqual(hashlib.sha256(path.read_bytes()).hexdigest(), before, "it was changed")

    def test_an_empty_file_is_no_new_shop(self) -> None:
        folder = scratch_folder(self)
        (folder / BOOK_FILE).touch()
        self.refused(folder, "is empty", "restore")

    def test_something_else_altogether(self) -> None:
        folder = scratch_folder(self)
        (folder / BOOK_FILE).write_bytes(b"Dear diary, " * 500)
        self.refused(folder, "damaged", "restore")

    def test_another_programs_database(self) -> None:
        folder = scratch_folder(self)
        with sqlite3.connect(folder / BOOK_FILE) as connection:
            connection.execute("CREATE TABLE person (name TEXT)")
        self.refused(folder, "not a book of Loyal Bell", "--data")

    def test_cut_off_in_the_middle(self) -> None:
        folder = scratch_folder(self)
        Database(folder).close()
        path = folder / BOOK_FILE
        path.write_bytes(path.read_bytes()[:6_000])
        self.refused(folder, "damaged", "restore")

    def test_written_by_a_newer_program(self) -> None:
        folder = scratch_folder(self)
        Database(folder).close()
        with sqlite3.connect(folder / BOOK_FILE) as connection:
            connection.execute("UPDATE alembic_version SET version_num = '9999'")
        with self.assertRaises(DatabaseTooNew) as caught:
            Database(folder)
        self.assertIn("newer version", str(caught.exception))
        self.assertIn("9999", str(caught.exception))

    def test_not_ours_to_write(self) -> None:
        """In a child that is nobody in particular: root may write everything."""
        folder = scratch_folder(self)
        Database(folder).close()
        folder.chmod(0o555)
        (folder / BOOK_FILE).chmod(0o444)
        reader, writer = os.pipe()
        child = os.fork()
        if child == 0:
            said = "it opened"
            try:
                if os.getuid() == 0:
                    os.setuid(NOBODY)
                Database(folder)
            except BaseException as problem:
                said = str(problem)
            finally:
                os.write(writer, said.encode() or b"nothing")
                os._exit(0)
        os.waitpid(child, 0)
        said = os.read(reader, 10_000).decode()
        os.close(reader)
        os.close(writer)
        folder.chmod(0o755)
        self.assertIn("cannot be written to", said)
        self.assertIn(str(folder / BOOK_FILE), said)

    def test_a_folder_that_nobody_else_may_look_into(self) -> None:
        folder = scratch_folder(self) / "shop"
        Database(folder).close()
        self.assertEqual(folder.stat().st_mode & 0o777, 0o700)
        self.assertEqual((folder / BOOK_FILE).stat().st_mode & 0o777, 0o600)


if __name__ == "__main__":
    unittest.main()
