"""Loading the ledger and importing orders, against what sqlite3 does with the same rows and no more."""

import csv
import shutil
import sqlite3
import tempfile
from datetime import timedelta
from pathlib import Path
from random import Random
from threading import Event, Thread

from bench.measure import Line, median, once
from bench.segment_count import ORDERS, PEOPLE
from loyalbell.demo.build import NOW, ZONE
from loyalbell.services.application import Application
from loyalbell.services.customers import ordering
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.settings.shop import ShopForm, open_shop
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.schema import ImportRun, Item
from loyalbell.storage.snapshot.loading import load_snapshot

LINES = 1_000_000
TILL_BOUND = 1.0
SHOP = ShopForm("Bench", ZONE, "USD", "US", "1 Row", "http://x", "B", "b@bench.example", "127.0.0.1", 25)
RAW = (
    "SELECT id, person_id, placed_at, coalesce(department_id, 0), coalesce(location_id, 0), total_minor,"
    " in_person, coalesce(cancelled_at, 0), coalesce(refunded_at, 0), refunded_minor FROM orders"
)


RAW_PEOPLE = (
    "SELECT id, joined_at, closed_at, deceased_at, email IS NOT NULL, phone IS NOT NULL, chat_handle IS NOT"
    " NULL, birthday_month, birthday_day, birthday_year FROM person"
)


def new_book(folder: Path, people: int) -> Application:
    application = Application(folder)
    open_shop(application, SHOP, "B", "b@bench.example", "a long password")
    with sqlite3.connect(folder / BOOK_FILE) as connection:
        connection.executemany(
            "INSERT INTO person (id, email) VALUES (?, ?)",
            ((i, f"p{i}@example.com") for i in range(1, people + 1)),
        )
        connection.executemany(
            "INSERT INTO external_id (source, value, person_id) VALUES ('import', ?, ?)",
            ((f"C{i}", i) for i in range(1, people + 1)),
        )
    connection.close()
    return application


def add_orders(folder: Path, people: int, orders: int) -> None:
    rng, now = Random(1), int(NOW.timestamp())
    rows = ((rng.randint(1, people), now - rng.randrange(10**8), 1_000) for _ in range(orders))
    with sqlite3.connect(folder / BOOK_FILE) as connection:
        connection.executemany(
            "INSERT INTO orders (person_id, placed_at, total_minor, refunded_minor, currency) VALUES (?, ?,"
            " ?, 0, 'USD')",
            rows,
        )
    connection.close()


def load_line(folder: Path) -> list[Line]:
    application = new_book(folder, PEOPLE)
    add_orders(folder, PEOPLE, ORDERS)
    connection = sqlite3.connect(folder / BOOK_FILE)

    def ours() -> None:
        with application.database.reading() as session:
            load_snapshot(session)

    def raw() -> None:
        connection.execute(RAW_PEOPLE).fetchall()
        connection.execute(RAW).fetchall()

    mine, other = median(ours, 3), median(raw, 3)
    connection.close()
    loaded = Line(
        "ledger from SQLite",
        "200k people, 2M orders",
        mine,
        other,
        "sqlite3 fetchall",
        "1.5 at most",
        mine <= 1.5 * other,
    )
    following = follow_line(application, mine)
    application.close()
    return [loaded, *following]


def follow_line(application: Application, whole: float) -> list[Line]:
    """One order rung up and seen, against loading everything again; and what a row of history weighs."""
    with application.database.transaction() as session:
        session.add(Item(id=1, name="Tea", price_minor=500))
    application.snapshot()

    def ring() -> None:
        ordering.ring_up(application, 1, 1, "", "bench")
        application.snapshot()

    mine = median(ring, 5)
    weight = application.snapshot().bytes_per_event()
    return [
        Line(
            "an order rung up, then counted",
            "the same",
            mine,
            whole,
            "the whole ledger anew",
            "0.5 at most",
            mine <= whole / 2,
        ),
        Line("memory of an event", "the same", weight, 150, "bound", "below 1", weight < 150, "bytes"),
    ]


def write_file(path: Path, people: int) -> None:
    rng, items = Random(2), [f"Item {number}" for number in range(300)]
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["order id", "customer id", "date", "department", "item", "quantity", "line total"])
        order, left = 0, 0
        for _ in range(LINES):
            if not left:
                order, left = order + 1, rng.choice((1, 2, 2, 3, 4))
                at = (NOW - timedelta(seconds=rng.randrange(10**8))).strftime("%Y-%m-%dT%H:%M:%S")
                start = [f"R{order}", f"C{rng.randint(1, people)}", at, rng.choice(("Shop", "Café"))]
            left -= 1
            writer.writerow(
                [*start, rng.choice(items), rng.choice((1, 1, 2)), f"{rng.randrange(100, 9000) / 100:.2f}"]
            )


def import_line(folder: Path) -> list[Line]:
    people = 50_000
    file = folder / "orders.csv"
    write_file(file, people)
    application = new_book(folder / "ours", people)
    with file.open("rb") as content:
        run = import_commands.begin_import(application, "orders", file.name, content, "bench")
    mine = once(lambda: import_commands.carry_out(application, run.id, True, lambda share, words: None))
    with application.database.reading() as session:
        done = session.get_one(ImportRun, run.id)
        assert done.state == "done" and not done.refused, done.problem
    orders, lines = rows_of(folder / "ours" / BOOK_FILE)
    application.close()
    bare_desk = new_book(folder / "bare", people)
    bare_desk.close()
    other = once(lambda: bare(folder / "ours" / BOOK_FILE, folder / "bare" / BOOK_FILE, orders, lines))
    return [
        Line(
            "import of orders from CSV",
            "1M lines",
            mine,
            other,
            "bare executemany",
            "1.5 at most",
            mine <= 1.5 * other,
        )
    ]


def till_line(folder: Path) -> list[Line]:
    """How long a till waits at most, while a file of a million lines is written."""
    people, over = 50_000, Event()
    file = folder / "orders.csv"
    write_file(file, people)
    application = new_book(folder / "ours", people)
    with file.open("rb") as content:
        run = import_commands.begin_import(application, "orders", file.name, content, "bench")
    with application.database.transaction() as session:
        session.add(Item(id=900_001, name="Tea", price_minor=500))
    waits: list[float] = []

    def till() -> None:
        while not over.wait(0.1):
            waits.append(once(lambda: ordering.ring_up(application, 1, 900_001, "", "bench")))

    thread = Thread(target=till)
    thread.start()
    import_commands.carry_out(application, run.id, True, lambda share, words: None)
    over.set()
    thread.join()
    application.close()
    longest = max(waits)
    size = f"1M lines coming in, {len(waits):,} orders rung up"
    return [
        Line("a till’s longest wait", size, longest, TILL_BOUND, "the bound", "1 s", longest < TILL_BOUND)
    ]


def rows_of(book: Path) -> tuple[list[tuple], list[tuple]]:
    connection = sqlite3.connect(book)
    orders = connection.execute("SELECT * FROM orders").fetchall()
    lines = connection.execute("SELECT * FROM order_line").fetchall()
    connection.close()
    return orders, lines


def bare(ours: Path, target: Path, orders: list[tuple], lines: list[tuple]) -> None:
    """The same rows into the same tables with their indexes, keys checked, in one transaction."""
    connection = sqlite3.connect(target)
    connection.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;")
    connection.execute("ATTACH ? AS ours", (str(ours),))
    for table in ("import_run", "department", "item"):
        connection.execute(f"INSERT INTO main.{table} SELECT * FROM ours.{table}")
    connection.executemany(f"INSERT INTO orders VALUES ({', '.join('?' * len(orders[0]))})", orders)
    connection.executemany(f"INSERT INTO order_line VALUES ({', '.join('?' * len(lines[0]))})", lines)
    connection.commit()
    connection.close()


def lines() -> list[Line]:
    found = []
    for make in (load_line, import_line, till_line):
        folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
        try:
            found += make(folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    return found
