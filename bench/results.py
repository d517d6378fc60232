"""Results: orders put down to messages, and who came back, against the same questions asked of DuckDB; and
the page of the demo that has lived.
"""

import re
import statistics
import tempfile
from pathlib import Path

import duckdb
import numpy as np
from fastapi.testclient import TestClient

from bench.measure import Line, median, once
from bench.segment_count import ORDERS, PEOPLE, made_up_ledger
from loyalbell.core.history.columns import Parted
from loyalbell.core.history.snapshot import Orders
from loyalbell.core.results.attribution import Reason, Touches, attribute
from loyalbell.core.results.came_back import Purchases, Qualified, compare
from loyalbell.core.results.defaults import WINDOW_DAYS
from loyalbell.demo.build import NOW, OWNER, build_demo
from loyalbell.services.results.overview import RETURN_DAYS, overview
from loyalbell.services.results.ranges import USUAL, days_of
from loyalbell.web.app import create_app
from loyalbell.web.request import DemoParts

DAY = 86_400
MESSAGES, SOURCES, CLICKED, HELD = 2_000_000, 20, 0.1, 0.1
REACH, ON_DEMO = 1.0, 0.15
"""Seconds: of the table with 2M messages, and of a page of the demo."""

ATTRIBUTED = """
WITH by_click AS (
  SELECT o.key, o.moment, c.moment AS touched, c.delivery FROM orders o
  ASOF LEFT JOIN clicks c ON c.person = o.person AND c.moment <= o.moment),
by_text AS (
  SELECT o.key, o.moment, t.moment AS touched, t.delivery FROM orders o
  ASOF LEFT JOIN texts t ON t.person = o.person AND t.moment <= o.moment)
SELECT count(*) FILTER (WHERE found >= 0), sum(found) FILTER (WHERE found >= 0) FROM (
  SELECT CASE WHEN by_click.touched >= by_click.moment - $window THEN by_click.delivery
              WHEN by_text.touched >= by_text.moment - $window THEN by_text.delivery ELSE -1 END AS found
  FROM by_click JOIN by_text USING (key))
"""
CAME_BACK = """
WITH first AS (
  SELECT source, person, min(moment) AS moment, any_value(held) AS held FROM sent GROUP BY source, person),
done AS (SELECT * FROM first WHERE moment + $days <= $now),
after AS (
  SELECT f.source, f.held, f.moment, o.moment AS came FROM done f
  ASOF LEFT JOIN orders o ON o.person = f.person AND o.moment > f.moment)
SELECT source, held, count(*), count(*) FILTER (WHERE came <= moment + $days) FROM after
GROUP BY source, held ORDER BY source, held
"""


class Sent:
    """Two million messages of twenty sources to the people of the made-up ledger, some held back instead."""

    def __init__(self) -> None:
        rng, now = np.random.default_rng(2), int(NOW.timestamp())
        self.person = rng.integers(0, PEOPLE, MESSAGES).astype(np.int32)
        self.at = np.sort(rng.integers(now - 400 * DAY, now, MESSAGES))
        self.source = rng.integers(0, SOURCES, MESSAGES).astype(np.int32)
        # whoever is held back by a source is so every time
        self.held = (self.person.astype(np.int64) * 31 + self.source) % 10 < 10 * HELD
        self.key = np.arange(MESSAGES, dtype=np.int64)
        self.clicked = np.flatnonzero((rng.random(MESSAGES) < CLICKED) & ~self.held)
        self.texts = np.flatnonzero((rng.random(MESSAGES) < 0.2) & ~self.held)

    def touches(self, rows: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Touches:
        return Touches(self.person[rows], self.at[rows], self.key[rows])


def _standing(orders: Orders) -> Orders:
    return orders.taken(orders.void_at > int(NOW.timestamp()))


def _in_duckdb(orders: Orders, sent: Sent) -> duckdb.DuckDBPyConnection:
    """Sorted by person and time, as a rival would keep them."""
    connection = duckdb.connect()
    tables = {
        "orders": {"key": orders.key, "person": orders.person, "moment": orders.at},
        "sent": {"person": sent.person, "moment": sent.at, "source": sent.source, "held": sent.held},
    }
    for name, rows in (("clicks", sent.clicked), ("texts", sent.texts)):
        tables[name] = {"person": sent.person[rows], "moment": sent.at[rows], "delivery": sent.key[rows]}
    for name, columns in tables.items():
        connection.register("given", columns)
        connection.execute(f"CREATE TABLE {name} AS SELECT * FROM given ORDER BY person, moment")
        connection.unregister("given")
    connection.execute("SET threads = 2")
    return connection


def lines() -> list[Line]:
    ledger, sent, now = made_up_ledger(), Sent(), int(NOW.timestamp())
    orders = _standing(ledger.orders)
    connection = _in_duckdb(orders, sent)

    def attributed() -> tuple[int, int]:
        kinds = [(Reason.CLICK, sent.touches(sent.clicked)), (Reason.TEXT, sent.touches(sent.texts))]
        found = attribute(orders.person, orders.at, kinds).delivery
        return int((found >= 0).sum()), int(found[found >= 0].sum())

    def attributed_there() -> tuple[int, int]:
        row = connection.execute(ATTRIBUTED, {"window": WINDOW_DAYS * DAY}).fetchone()
        assert row is not None
        return int(row[0]), int(row[1])

    def came_back() -> list[tuple[int, bool, int, int]]:
        purchases = Purchases.of(ledger.orders, now)
        found, by_source = [], Parted(sent.source)
        for source in range(SOURCES):
            mine = by_source.rows(source)
            who = Qualified(sent.person[mine], sent.at[mine], sent.held[mine])
            compared = compare(who.first_of_each(0, now), purchases, RETURN_DAYS, now)
            for held, group in zip((False, True), compared.shares, strict=True):
                found.append((source, held, len(group), int(group.values.sum())))
        return found

    def came_back_there() -> list[tuple[int, bool, int, int]]:
        values = {"days": RETURN_DAYS * DAY, "now": now}
        return [(row[0], row[1], row[2], row[3]) for row in connection.execute(CAME_BACK, values).fetchall()]

    assert attributed() == attributed_there(), (attributed(), attributed_there())
    assert came_back() == came_back_there()
    size = f"{PEOPLE // 1000}k people, {ORDERS // 10**6}M orders, {MESSAGES // 10**6}M messages"
    found = []
    for what, ours, theirs in (
        ("orders put down to messages", attributed, attributed_there),
        ("who came back, twenty sources", came_back, came_back_there),
    ):
        mine, other = median(ours, 3), median(theirs, 3)
        holds = mine < REACH
        found.append(Line(what, size, mine, other, "DuckDB", "under 1 s", holds))
    return [*found, *_pages()]


def _pages() -> list[Line]:
    with tempfile.TemporaryDirectory(prefix="loyalbell-bench-") as folder:
        application = build_demo(Path(folder) / "demo", lived=True)
        client = TestClient(create_app(application, None, DemoParts(OWNER[1:], ())))
        token = re.findall(r'name="_csrf" value="([^"]+)"', client.get("/sign-in").text)[0]
        form = {"_csrf": token, "email": OWNER[1], "password": OWNER[2], "next": "/"}
        assert client.post("/sign-in", data=form).status_code == 200
        today, zone = application.clock.now().date(), application.the_shop().zone

        def changed() -> float:
            """The table as it is first asked for after somebody was changed."""
            with application.database.transaction() as session:
                session.connection().exec_driver_sql("UPDATE person SET city = city || '.' WHERE id = 7")
            application.snapshot()
            return once(lambda: overview(application, days_of(USUAL, today, zone)))

        changed()
        first = statistics.median(changed() for _ in range(5))
        kept = median(lambda: client.get("/results?days=year"))
        client.close()
        application.close()
    size, reach = "the demo that has lived", "150 ms"
    return [
        Line(
            "its table, after a change of the book", size, first, ON_DEMO, "the bound", reach, first < ON_DEMO
        ),
        Line("its page, asked again", size, kept, ON_DEMO, "the bound", reach, kept < ON_DEMO),
    ]
