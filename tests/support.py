"""Small worlds for tests: a shop in a scratch folder, and ledgers from plain lists."""

import atexit
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable, Iterable, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import Catalogue, Consents, HistorySnapshot, Orders, People
from loyalbell.core.messages.content import Button, EmailContent, Text
from loyalbell.demo.build import build_demo
from loyalbell.demo.messages import lapsed
from loyalbell.services.application import Application
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.settings.channels import CareSettings, SenderCheck
from loyalbell.services.settings.shop import ShopForm, open_shop
from loyalbell.storage.schema import ConsentEntry, Order, Person
from tests.still_clock import NOW as NOW
from tests.still_clock import StillClock as StillClock

ZONE = "America/New_York"
SHOP = ShopForm(
    "Test Shop",
    ZONE,
    "USD",
    "US",
    "1 Test Row",
    "http://127.0.0.1:1",
    "Ida",
    "ida@shop.example",
    "127.0.0.1",
    1,
)


def scratch_folder(case: unittest.TestCase) -> Path:
    """A folder of the test's own, gone when it is over."""
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
    case.addCleanup(shutil.rmtree, folder, ignore_errors=True)
    return folder


class KeptBooks:
    """Books made once a process and copied for each test: making one takes a second, copying it none."""

    def __init__(self) -> None:
        self._kept: dict[object, Path] = {}

    def copy(self, key: object, make: Callable[[Path], Application], folder: Path) -> None:
        """Puts into an empty ``folder`` the book that ``make`` makes, which is kept under ``key``."""
        if key not in self._kept:
            kept = Path(tempfile.mkdtemp(prefix="loyalbell-kept-"))
            atexit.register(shutil.rmtree, kept, ignore_errors=True)
            make(kept).close()
            self._kept[key] = kept
        shutil.copytree(self._kept[key], folder, dirs_exist_ok=True)


KEPT = KeptBooks()


def empty_shop(folder: Path) -> Application:
    application = Application(folder, StillClock())
    open_shop(application, SHOP, "Ida", "ida@shop.example", "a long password")
    with application.database.transaction() as session:
        SenderCheck(confirmed=SHOP.sender_email).save(session)
        CareSettings(limits=[], quiet_begins="", quiet_ends="").save(session)
    return application


def demo_book(folder: Path, people: int = 0, lived: bool = False) -> Application:
    """The demo's book, as ``build_demo`` makes it; ``people`` where it is not of its usual size."""
    sizes = {"people": people} if people else {}
    KEPT.copy(("demo", people, lived), lambda kept: build_demo(kept, lived=lived, **sizes), folder)
    return Application(folder)


class ApplicationCase(unittest.TestCase):
    """A desk with an empty shop in a folder of its own."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        self.clock = StillClock()
        KEPT.copy("empty shop", empty_shop, self.folder)
        self.application = Application(self.folder, self.clock)
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.addCleanup(self.application.close)

    def add_person(
        self, email: str | None = "ann@example.com", consent: str = "agreed", **facts: object
    ) -> int:
        with self.application.database.transaction() as session:
            person = Person(email=email, joined_at=NOW - timedelta(days=400), **facts)
            session.add(person)
            session.flush()
            if consent != "never asked":
                session.add(
                    ConsentEntry(
                        person_id=person.id,
                        channel="email",
                        state=consent,
                        at=NOW - timedelta(days=300),
                        source="test",
                    )
                )
            return person.id

    def add_order(self, person_id: int, days_ago: float, money: int = 1_000, **facts: object) -> int:
        with self.application.database.transaction() as session:
            order = Order(
                person_id=person_id,
                placed_at=self.clock.now() - timedelta(days=days_ago),
                total_minor=money,
                refunded_minor=facts.pop("refunded_minor", 0),
                currency="USD",
                **facts,
            )
            session.add(order)
            session.flush()
            return order.id

    def lapsed_segment(self, days: int = 60) -> int:
        return segment_commands.keep(self.application, None, f"Lapsed {days}", lapsed(days), "Ida")

    def letter(self, name: str = "Hello", text: str = 'Hi {{ first_name | default: "there" }}') -> int:
        content = EmailContent(
            subject=text,
            preview="p",
            letterhead=message_queries.letterheads(self.application)[0].id,
            blocks=[Text(text=text), Button(label="Look", url="https://shop.example/a?b=1&c=2")],
        )
        return message_commands.keep(self.application, None, name, content, "Ida")


class FakeSender(Sender):
    """Keeps what it was handed, and says what it was told to say."""

    def __init__(self, result: str = "accepted", words: str = "250 OK", known: bool | None = None) -> None:
        self.handed: list[Outgoing] = []
        self.result, self.words, self.known = result, words, known

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        self.handed += batch
        return [Outcome(message.delivery_id, self.result, self.words) for message in batch]

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return self.known


def wait_for(holds: Callable[[], object], seconds: float = 60) -> object:
    """The first true value of ``holds``; fails after ``seconds``."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            found = holds()
        except Exception:
            found = None
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(f"it did not come true within {seconds} s")


def snapshot_of(
    people: int,
    orders: Iterable[tuple[int, int, int, int, int | None, int | None, int]],
    consents: Iterable[tuple[int, int, int, int]] = (),
    joined: Sequence[int] | None = None,
) -> HistorySnapshot:
    """Orders are (person, at, department, money, void_at, refunded_at, refunded)."""
    rows = sorted(orders, key=lambda order: order[1])
    table = np.array(
        [
            [p, at, d, m, NEVER if v is None else v, NEVER if r is None else r, back]
            for p, at, d, m, v, r, back in rows
        ],
        dtype=np.int64,
    ).reshape(-1, 7)
    said = np.array(sorted(consents, key=lambda entry: entry[3]), dtype=np.int64).reshape(-1, 4)
    return HistorySnapshot(
        zone=ZONE,
        currency="USD",
        catalogue=Catalogue(departments={1: "Shop", 2: "Café"}),
        people=People.of(np.arange(1, people + 1), joined if joined is not None else [-(2**40)] * people),
        orders=Orders.of(
            person=table[:, 0],
            at=table[:, 1],
            department=table[:, 2],
            money=table[:, 3],
            void_at=table[:, 4],
            refunded_at=table[:, 5],
            refunded=table[:, 6],
        ),
        consents=Consents.of(person=said[:, 0], channel=said[:, 1], state=said[:, 2], at=said[:, 3]),
    )


def said_of_rows(run: Any) -> dict[int, str]:
    """What an import says of rows that it refused or of which it left a cell out, by row number."""
    return {row: text for group in run.problems for row, text, _ in group["examples"]}
