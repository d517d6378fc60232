"""One bad thing each: what is done to the program, what it did, what was lost, and what came twice."""

import random
import shutil
import sqlite3
import threading
import unittest
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from sqlalchemy import event

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.services.application import Application
from loyalbell.services.backups import commands as backup_commands
from loyalbell.services.backups.restore import restore
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import after_stop
from loyalbell.services.delivery.leader_lease import Lease
from loyalbell.services.imports import under_way
from loyalbell.services.scheduler import tick
from loyalbell.services.settings import shop as shop_settings
from loyalbell.storage import database as database_module
from loyalbell.storage.backup_file import BackupProblem
from loyalbell.storage.database import BOOK_FILE, Database, DiskFull
from loyalbell.storage.opening import BookProblem, newest_revision
from loyalbell.storage.schema import Campaign
from tests.services.backups.test_restore import Network, RestoreTest
from tests.services.sequences.test_clock_changes import ClockChanges
from tests.services.sequences.test_runner import AFTER_AN_ORDER, wait
from tests.storage.files.test_import_in_slices import CutOff
from tests.storage.test_migrations import revisions
from tests.storage.test_opening import killed_while_opening, old_book, state_of
from tests.support import scratch_folder

SEED = 17


@dataclass(frozen=True)
class Found:
    """``lost`` and ``twice``: messages, or rows where there are none."""

    fault: str
    happened: str
    lost: int
    twice: int
    is_well: bool = True


class FaultCase(RestoreTest, CutOff):
    """A shop with a sequence of two letters and a network that keeps what it took."""

    def runTest(self) -> None:
        """Only its parts are used."""


def killed_at_first_start(case: FaultCase, times: int) -> Found:
    rng, never, whole = random.Random(SEED), 0, 0
    for _ in range(times):
        folder = scratch_folder(case)
        killed_while_opening(folder, rng.uniform(0.01, 0.8))
        if (folder / BOOK_FILE).exists():
            whole += state_of(folder / BOOK_FILE) == (newest_revision(), [("ok",)])
        else:
            never += 1
        Database(folder).close()
        shutil.rmtree(folder)
    words = f"{times} kills: no book {never} times, a whole one {whole}; each opened at the next start"
    return Found("killed at the first start", words, times - never - whole, 0)


def killed_while_upgrading(case: FaultCase, times: int) -> Found:
    """From every earlier step of the book in turn."""
    rng, old, new, lost = random.Random(SEED), 0, 0, 0
    steps, kept = revisions()[:-1], dict[str, tuple[Path, int]]()
    for number in range(times):
        step = steps[number % len(steps)]
        if step not in kept:
            made = scratch_folder(case)
            kept[step] = made, old_book(made, step)["person"]
        of_then, people = kept[step]
        folder = scratch_folder(case)
        shutil.copytree(of_then, folder, dirs_exist_ok=True)
        killed_while_opening(folder, rng.uniform(0.01, 0.8))
        revision, check = state_of(folder / BOOK_FILE)
        old, new = old + (revision == step), new + (revision == newest_revision())
        lost += check != [("ok",)]
        Database(folder).close()
        with sqlite3.connect(folder / BOOK_FILE) as book:
            lost += book.execute("SELECT count(*) FROM person").fetchone()[0] != people
        shutil.rmtree(folder)
    words = f"{times} kills, from {len(kept)} steps: the old book {old} times, the new one {new}"
    return Found("killed during an upgrade", words, lost, 0, old + new == times)


def restored(case: FaultCase, answers: bool) -> Found:
    """A backup is made while messages leave; the book goes on for a day, is lost, and is restored."""
    case.sender = network = Network(answers)
    plan_of_two(case)
    people = 40
    for number in range(people):
        case.add_order(case.add_person(f"p{number}@example.com"), 0)
    case.clock.move_on(timedelta(hours=1))
    made: list[Path] = []
    maker = threading.Thread(target=lambda: made.append(backup_commands.make(case.application).path))
    maker.start()
    case.walk(timedelta(hours=2), timedelta(minutes=20))
    maker.join()
    case.walk(timedelta(days=1))
    case.backup = made[0]
    application, done = case.restored()
    shop_settings.switch(application, True, "Ida")
    tick(application, network)
    asked = 0 if answers else after_stop.decide_unsure(application, 1, False, "Ida", "sequence")
    case.go_on(application, network)
    counts = network.counts()
    lost = 2 * people - len(counts)
    twice = sum(count > 1 for count in counts.values())
    by = "the network was asked" if answers else f"a person was asked about {asked}"
    words = f"backed up under load, a day later restored; {done.asked} in doubt at once, {by}"
    return Found("the disk is lost", words, lost, twice)


def plan_of_two(case: FaultCase) -> None:
    case.ring({"start": AFTER_AN_ORDER, "steps": [case.step("m", 1), wait("v", 2), case.step("n", 2)]})
    case.clock.move_on(timedelta(minutes=1))


def wrong_books(case: FaultCase) -> Found:
    refused, changed = 0, 0
    books: dict[str, Callable[[Path], object]] = {
        "empty": lambda path: path.write_bytes(b""),
        "something else": lambda path: path.write_bytes(b"Dear diary, " * 900),
        "cut off": lambda path: path.write_bytes(path.read_bytes()[:9_000]),
        "torn": lambda path: path.write_bytes(path.read_bytes()[:4_096] + b"\0" * 20_000),
        "newer": lambda path: _say_newer(path),
    }
    for spoil in books.values():
        folder = scratch_folder(case)
        Database(folder).close()
        spoil(folder / BOOK_FILE)
        before = (folder / BOOK_FILE).read_bytes()
        try:
            Database(folder).close()
        except BookProblem:
            refused += 1
        changed += (folder / BOOK_FILE).read_bytes() != before
    words = f"{refused} of {len(books)} refused with a sentence, {changed} changed"
    return Found("a damaged, foreign or newer book", words, changed, 0, refused == len(books))


def _say_newer(path: Path) -> None:
    with sqlite3.connect(path) as book:
        book.execute("UPDATE alembic_version SET version_num = '9999'")


def disk_full(case: FaultCase) -> Found:
    """The book may not grow while a campaign leaves; then there is room again."""
    people = 60
    for number in range(people):
        case.add_order(case.add_person(f"full{number}@example.com"), 90)
    letter = case.letter("Letter 1", "Letter 1 of two")
    campaign = campaign_commands.draft_campaign(case.application, "May", case.lapsed_segment(), letter, "Ida")
    with case.application.database.transaction() as session:
        plan = CampaignPlan(engaged_only=False)
        session.get_one(Campaign, campaign).plan = plan.model_dump(mode="json")
    campaign_commands.start_campaign(case.application, campaign, people, "Ida")
    network, database, full = Network(True), case.application.database, 0

    def no_room(connection: sqlite3.Connection, _record: object) -> None:
        pages = connection.execute("PRAGMA page_count").fetchone()[0]
        connection.execute(f"PRAGMA max_page_count = {pages}")

    with database.engine.connect() as connection:
        connection.exec_driver_sql("VACUUM")
    event.listen(database.engine, "connect", no_room)
    database.engine.dispose()
    for _ in range(20):
        try:
            tick(case.application, network)
        except DiskFull:
            full += 1
    event.remove(database.engine, "connect", no_room)
    database.engine.dispose()
    after_stop.mend_after_stop(case.application, network)
    for _ in range(5):
        tick(case.application, network)
        after_stop.ask_again(case.application, network)
        case.clock.move_on(timedelta(minutes=10))
    counts = network.counts()
    words = f"{full} transactions found no room, nothing half-written; sent on when there was room"
    return Found(
        "the disk is full", words, people - len(counts), sum(count > 1 for count in counts.values()), full > 0
    )


def killed_imports(case: FaultCase, times: int) -> Found:
    left = 0
    for _ in range(times):
        case.killed_while_writing()
        under_way.is_under_way(case.application)
        left += case.people()
    words = f"{times} kills in the midst of a file; what was written was taken back"
    return Found("killed during an import", words, 0, left)


def clock_jumps(case: FaultCase) -> Found:
    """The clock of the machine jumps by an hour and by a week, back and forth, while messages leave."""
    network = case.sender = Network(False)
    plan_of_two(case)
    people = 30
    for number in range(people):
        case.add_order(case.add_person(f"jump{number}@example.com"), 0)
        if number % 6 == 5:
            for jump in (-1, 1, -168, 168):
                case.clock.move_on(timedelta(hours=jump))
                tick(case.application, network)
            case.clock.move_on(timedelta(minutes=30))
    case.walk(timedelta(days=10))
    counts = network.counts()
    words = "five times an hour and a week back and forth, ticking at each"
    return Found(
        "the clock jumps", words, 2 * people - len(counts), sum(count > 1 for count in counts.values())
    )


def clocks_change(case: FaultCase) -> Found:
    """Summer time begins and ends, in two zones, a tick every minute of each day."""
    walk = ClockChanges("test_each_leaves_at_its_own_minute_and_once")
    walk.every_minute = True
    result = unittest.TestResult()
    walk.run(result)
    wrong = len(result.failures) + len(result.errors)
    words = "four days in two zones, minute by minute: each message at its own minute"
    return Found("the clocks change", words, wrong, 0, result.wasSuccessful())


def second_program(case: FaultCase) -> Found:
    """Two programs on one folder: the second one is refused, also a restore beneath the first."""
    lease, refused = Lease(case.application), 0
    lease.take()
    backup = backup_commands.make(case.application).path
    try:
        restore(backup, case.folder, replace=True)
    except BackupProblem:
        refused += 1
    lease.release()
    return Found("a restore beneath a running program", "refused with a sentence", 0, 0, refused == 1)


def busy_writer(case: FaultCase) -> Found:
    """Somebody writes for long: whoever waits for a page is told so, and nothing is half-written."""
    usual = database_module.PATIENCE.set(0.05)
    begun, over = threading.Event(), threading.Event()

    def write() -> None:
        with Application(case.folder, case.clock).database.transaction():
            begun.set()
            over.wait(30)

    thread = threading.Thread(target=write)
    thread.start()
    begun.wait(30)
    told = False
    try:
        case.add_person("busy@example.com")
    except database_module.BookBusy:
        told = True
    over.set()
    thread.join()
    database_module.PATIENCE.reset(usual)
    case.add_person("busy@example.com")
    return Found("another program writes for long", "told to try again; it worked afterwards", 0, 0, told)
