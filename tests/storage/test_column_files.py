"""The snapshot that comes from files is the one that the book gives, or the files are not believed."""

import shutil
import sqlite3
from dataclasses import fields
from pathlib import Path
from unittest.mock import patch

import numpy as np
from hypothesis import HealthCheck, given, settings
from sqlalchemy import select

from loyalbell.core.history.columns import Rows
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.services.application import Application
from loyalbell.services.backups import restore
from loyalbell.services.customers.erasure import erase
from loyalbell.storage import backup_file, change_log, column_files
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.schema import CustomField, Event, FieldValue
from loyalbell.storage.snapshot.loading import load_snapshot
from tests.storage.snapshot.test_follows import ACTS, ChangesCase
from tests.support import NOW, ApplicationCase

NAME, SECRET, NOTE = "Zebedee", "violet-giraffe", "allergic to walnuts"


def in_words(snapshot: HistorySnapshot) -> dict[str, object]:
    """All that the snapshot holds, person ids for numbers and words for codes, without those who are gone."""
    said, here = np.array(snapshot.words.said), snapshot.people.joined_at < 2**61
    found: dict[str, object] = {
        "shop": (snapshot.zone, snapshot.currency, snapshot.leap_day, snapshot.catalogue)
    }
    for one in fields(snapshot):
        part = getattr(snapshot, one.name)
        if not isinstance(part, Rows) and one.name != "people":
            continue
        for column in fields(part):
            values = getattr(part, column.name)
            if column.name == "person":
                values = snapshot.people.ids[values]
            if column.metadata.get("of words"):
                values = said[values]
            values = values[here] if one.name == "people" else values
            found[f"{one.name}.{column.name}"] = (
                np.nan_to_num(values, nan=-1.5).tolist() if (values.dtype.kind == "f") else values.tolist()
            )
    return found


class ColumnFilesCase(ApplicationCase):
    """A shop of three people, one of whom has a name, an event and a field that nobody else has."""

    def setUp(self) -> None:
        super().setUp()
        worth = patch("loyalbell.storage.snapshot.cache.WORTH_ROWS", 1)
        worth.start()
        self.addCleanup(worth.stop)
        self.people = [self.add_person(f"p{n}@example.com", first_name=f"Ann{n}") for n in range(2)]
        self.zeb = self.add_person("z@example.com", first_name=NAME, birthday_month=2, birthday_day=29)
        self.orders = [self.add_order([*self.people, self.zeb][n % 3], n + 1, 100 * n) for n in range(6)]
        with self.application.database.transaction() as session:
            field = CustomField(name="Note", kind="text", made_at=NOW)
            session.add(field)
            session.flush()
            session.add(Event(person_id=self.zeb, at=NOW, kind="asked", properties=f'{{"for":"{SECRET}"}}'))
            session.add(FieldValue(person_id=self.zeb, field_id=field.id, value=f'"{NOTE}"', at=NOW))

    def reopen(self) -> Application:
        """Another life of the program on the same folder."""
        self.application.close()
        return self.opened()

    def opened(self) -> Application:
        self.application = Application(self.folder, self.clock)
        self.addCleanup(self.application.close)
        return self.application

    def anew(self) -> HistorySnapshot:
        with self.application.database.reading() as session:
            return load_snapshot(session, change_log.newest(session))

    def assertTrueToTheBook(self) -> None:
        self.assertEqual(in_words(self.application.snapshot()), in_words(self.anew()))

    def folders(self) -> list[Path]:
        return sorted(self.folder.glob("columns-*"))

    def put_away(self) -> None:
        self.application.snapshot()
        self.application.close()
        self.assertTrue((self.folder / "columns.seal").exists())

    def assertReadAnew(self) -> None:
        """The files are not believed, and what the book says is what is seen."""
        with patch.object(column_files, "read", wraps=column_files.read) as reading:
            self.opened().snapshot()
        believed = [call for call in reading.mock_calls if column_files.read(call.args[0]) is not None]
        self.assertEqual(believed, [])
        self.assertTrueToTheBook()


class Believed(ColumnFilesCase):
    def test_a_start_maps_what_was_put_away(self) -> None:
        self.put_away()
        with (
            patch("loyalbell.storage.snapshot.cache.load_snapshot") as loading,
            patch.object(column_files, "SMALL", 128),
        ):
            found = self.opened().snapshot()
        loading.assert_not_called()
        self.assertFalse(found.people.ids.flags.writeable or found.orders.at.flags.writeable)
        self.assertTrueToTheBook()

    def test_changes_after_the_files_were_written_are_read(self) -> None:
        self.put_away()
        self.opened()
        self.add_order(self.zeb, 0.25, 12_345)
        self.reopen()
        self.add_order(self.zeb, 0.125, 54_321)
        money = self.application.snapshot().orders.money.tolist()
        self.assertEqual(money[-2:], [12_345, 54_321])
        self.assertTrueToTheBook()

    def test_the_files_are_written_anew_once_they_are_far_behind(self) -> None:
        self.put_away()
        (first,) = self.folders()
        self.opened()
        with patch("loyalbell.storage.snapshot.cache.BEHIND", 3):
            for day in range(5):
                self.add_order(self.people[0], day + 0.5)
            self.put_away()
        (second,) = self.folders()
        self.assertNotEqual(first, second)
        self.opened()
        self.assertTrueToTheBook()

    def test_who_may_read_the_book_may_read_the_files_and_nobody_else(self) -> None:
        self.put_away()
        files = [self.folder / "columns.seal", *self.folders()[0].iterdir()]
        self.assertEqual({file.stat().st_mode & 0o777 for file in files}, {0o600})
        self.assertEqual(self.folders()[0].stat().st_mode & 0o777, 0o700)

    def test_a_small_book_has_none(self) -> None:
        with patch("loyalbell.storage.snapshot.cache.WORTH_ROWS", 1_000):
            self.application.snapshot()
            self.application.close()
        self.assertEqual((self.folders(), (self.folder / "columns.seal").exists()), ([], False))

    def test_no_room(self) -> None:
        self.application.snapshot()
        with patch("numpy.save", side_effect=OSError(28, "No space left on device")):
            self.application.close()
        self.assertEqual((self.folders(), (self.folder / "columns.seal").exists()), ([], False))
        self.assertReadAnew()

    def test_an_act_from_the_shell_that_changes_nothing_keeps_them(self) -> None:
        self.put_away()
        self.opened().close()
        self.assertTrue((self.folder / "columns.seal").exists())
        with patch("loyalbell.storage.snapshot.cache.load_snapshot") as loading:
            self.opened().snapshot()
        loading.assert_not_called()

    def test_an_act_from_the_shell_that_changes_people_takes_them_away(self) -> None:
        self.put_away()
        self.opened()
        self.add_person("new@example.com")
        self.application.close()
        self.assertEqual(self.folders(), [])
        self.assertReadAnew()


class NotBelieved(ColumnFilesCase):
    def test_after_a_kill(self) -> None:
        self.put_away()
        self.opened()
        self.add_order(self.zeb, 0.5, 777)
        self.application.database.engine.dispose()  # as a kill leaves it: nothing was sealed
        self.assertReadAnew()

    def test_a_kill_that_leaves_writes_in_the_log_beside_the_book(self) -> None:
        self.put_away()
        other = sqlite3.connect(self.folder / BOOK_FILE)
        other.execute("PRAGMA journal_mode=WAL")
        other.execute("UPDATE orders SET total_minor = 999")
        other.commit()
        self.assertTrue((self.folder / f"{BOOK_FILE}-wal").exists())
        self.assertReadAnew()
        other.close()

    def test_the_book_was_changed_by_another_program(self) -> None:
        self.put_away()
        other = sqlite3.connect(self.folder / BOOK_FILE)
        other.execute("UPDATE orders SET total_minor = 999")
        other.commit()
        other.close()
        self.assertReadAnew()
        self.assertEqual(set(self.application.snapshot().orders.money.tolist()), {999})

    def test_an_older_book_was_put_back_by_hand(self) -> None:
        self.application.close()
        shutil.copy2(self.folder / BOOK_FILE, self.folder / "older")
        self.opened()
        self.add_order(self.zeb, 0.5, 777)
        self.put_away()
        (self.folder / "older").replace(self.folder / BOOK_FILE)
        self.assertReadAnew()
        self.assertNotIn(777, self.application.snapshot().orders.money.tolist())

    def test_a_backup_was_restored(self) -> None:
        backup = backup_file.write(self.folder / BOOK_FILE, self.folder / "backups", "test")
        self.add_order(self.zeb, 0.5, 777)
        self.put_away()
        restore.restore(backup, self.folder, replace=True, clock=self.clock)
        self.assertEqual(self.folders(), [])
        self.assertReadAnew()
        self.assertNotIn(777, self.application.snapshot().orders.money.tolist())

    def test_the_whole_folder_was_copied_elsewhere(self) -> None:
        self.put_away()
        copied = self.folder / "copied"
        shutil.copytree(self.folder, copied, ignore=shutil.ignore_patterns("copied"))
        other = Application(copied, self.clock)
        self.addCleanup(other.close)
        self.assertIsNone(other.database.columns)

    def test_another_version_reads_the_columns_in_another_way(self) -> None:
        self.put_away()
        with patch.object(column_files, "reader_mark", return_value="another"):
            self.assertReadAnew()

    def test_a_file_is_cut_short_missing_or_no_column(self) -> None:
        for hurt in (
            lambda file: file.write_bytes(file.read_bytes()[:-3]),
            lambda file: file.unlink(),
            lambda file: file.write_bytes(b"\x00" * 5_000),
        ):
            with self.subTest(hurt=hurt):
                self.put_away()
                hurt(self.folders()[0] / "orders.money.npy")
                self.assertReadAnew()

    def test_a_seal_that_is_no_seal(self) -> None:
        for words in ("", "{}", '{"folder":"../x","newest":1,"size":1,"modified":1,"inode":1}', "\x00"):
            with self.subTest(words=words):
                self.put_away()
                (self.folder / "columns.seal").write_text(words)
                self.assertReadAnew()

    def test_a_seal_on_a_folder_that_is_none_of_ours(self) -> None:
        self.put_away()
        (folder,) = self.folders()
        folder.rename(self.folder / "elsewhere")
        seal = self.folder / "columns.seal"
        seal.write_text(seal.read_text().replace(folder.name, "elsewhere"))
        self.assertReadAnew()


class Erased(ColumnFilesCase):
    """Somebody who is erased is in no file either."""

    def assertNowhere(self, *words: str) -> None:
        for file in self.folder.rglob("*"):
            if file.is_file() and "columns" in str(file):
                for word in words:
                    self.assertNotIn(word.encode(), file.read_bytes(), file.name)

    def test_erased_while_the_program_runs(self) -> None:
        self.put_away()
        self.opened().snapshot()
        erase(self.application, [self.zeb], "Ida")
        self.application.snapshot()
        self.assertNowhere(NAME, SECRET, NOTE)
        self.put_away()
        self.assertEqual(len(self.folders()), 1)
        self.assertNowhere(NAME, SECRET, NOTE)
        self.opened()
        self.assertTrueToTheBook()

    def test_who_has_nothing_but_a_name(self) -> None:
        self.put_away()
        self.opened().snapshot()
        erase(self.application, [self.people[1]], "Ida")
        self.application.snapshot()
        self.assertEqual(self.folders(), [])

    def test_erased_just_before_a_kill(self) -> None:
        """What a kill leaves goes with the next start, and only what nobody may believe."""
        self.put_away()
        self.opened().remove_old_files()
        self.assertEqual(len(self.folders()), 1)
        erase(self.application, [self.zeb], "Ida")
        self.application.database.engine.dispose()
        self.opened().remove_old_files()
        self.assertNowhere(NAME, SECRET, NOTE)

    def test_erased_from_the_shell(self) -> None:
        self.put_away()
        erase(self.opened(), [self.zeb], "Ida")
        self.application.close()
        self.assertNowhere(NAME, SECRET, NOTE)

    def test_events_that_are_no_longer_kept(self) -> None:
        self.put_away()
        self.opened().snapshot()
        with self.application.database.transaction() as session:
            session.delete(session.scalars(select(Event)).one())
        self.put_away()
        self.assertNowhere(SECRET)

    def test_a_person_who_is_erased_has_no_birthday_there_either(self) -> None:
        self.application.snapshot()
        erase(self.application, [self.zeb], "Ida")
        self.put_away()
        found = column_files.read(self.folders()[0])
        self.assertEqual(found.people.birthday_month.tolist(), [0, 0, 0])
        self.assertEqual(found.people.words[2].tolist(), [0] * found.people.words.shape[1])


class AnyChanges(ChangesCase):
    """Closed and opened again at any moment between any changes."""

    def setUp(self) -> None:
        worth = patch("loyalbell.storage.snapshot.cache.WORTH_ROWS", 1)
        worth.start()
        self.addCleanup(worth.stop)
        super().setUp()

    @settings(
        max_examples=25,
        deadline=None,
        suppress_health_check=[HealthCheck.differing_executors, HealthCheck.too_slow],
    )
    @given(ACTS)
    def test_any_changes(self, acts: list[tuple[str, int]]) -> None:
        for act, number in acts:
            self.do(act, number)
            if number % 3 == 0:
                self.application.snapshot()
            if number % 4 == 0:
                self.application.close()
                self.application = Application(self.folder, self.clock)
        with self.application.database.reading() as session:
            anew = load_snapshot(session, change_log.newest(session))
        self.assertEqual(in_words(self.application.snapshot()), in_words(anew))
