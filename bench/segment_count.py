"""A segment counted as it is typed, against the same question asked of DuckDB on the same rows."""

from datetime import timedelta
from itertools import count

import duckdb
import numpy as np

from bench.measure import Line, median
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import HistorySnapshot, Orders, People
from loyalbell.core.segments.evaluation import bounds, evaluate
from loyalbell.core.segments.model import Group, LastDays, OrdersCondition, Rule
from loyalbell.demo.build import NOW, ZONE

PEOPLE, ORDERS = 200_000, 2_000_000
DAY = 86_400
RULE = Rule(
    root=Group(
        lines=[
            OrdersCondition(),
            OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60)),
            OrdersCondition(measure="sum", value=20_000, department=2, period=LastDays(days=730)),
        ]
    )
)
SQL = """
SELECT count(*) FROM (
  SELECT p.id FROM person p LEFT JOIN orders o ON o.person = p.id AND o.void_at > $now AND o.at <= $now
  GROUP BY p.id
  HAVING count(o.at) >= 1
     AND count(o.at) FILTER (WHERE o.at >= $sixty) = 0
     AND coalesce(sum(o.money) FILTER (WHERE o.at >= $years AND o.department = 2), 0) >= 20000)
"""


def made_up_ledger(people: int = PEOPLE, orders: int = ORDERS) -> HistorySnapshot:
    rng = np.random.default_rng(1)
    now = int(NOW.timestamp())
    at = np.sort(rng.integers(now - 1_200 * DAY, now, orders))
    return HistorySnapshot(
        ZONE,
        "USD",
        People.of(np.arange(people), np.full(people, -NEVER)),
        Orders.of(
            person=(people * rng.random(orders) ** 2).astype(np.int32),
            at=at,
            department=rng.integers(1, 5, orders),
            money=rng.integers(100, 20_000, orders),
            void_at=np.where(rng.random(orders) < 0.02, at, NEVER),
        ),
    )


def in_duckdb(snapshot: HistorySnapshot) -> duckdb.DuckDBPyConnection:
    connection = duckdb.connect()
    connection.register("ids", {"id": snapshot.people.ids})
    orders = snapshot.orders
    connection.register(
        "rows",
        {
            "person": orders.person,
            "at": orders.at,
            "department": orders.department,
            "money": orders.money,
            "void_at": orders.void_at,
        },
    )
    connection.execute("CREATE TABLE person AS SELECT * FROM ids; CREATE TABLE orders AS SELECT * FROM rows")
    return connection


def lines() -> list[Line]:
    snapshot = made_up_ledger()
    connection = in_duckdb(snapshot)
    values = {
        "now": int(NOW.timestamp()),
        "sixty": bounds(LastDays(days=60), NOW, ZONE)[0],
        "years": bounds(LastDays(days=730), NOW, ZONE)[0],
    }

    later = count()

    def ours() -> int:
        # a second later each time: lines asked at one instant are kept, and that would be no answer
        return int(evaluate(RULE, snapshot, NOW + timedelta(seconds=next(later))).sum())

    def theirs() -> int:
        found = connection.execute(SQL, values).fetchone()
        assert found
        return int(found[0])

    assert ours() == theirs(), (ours(), theirs())
    mine, other = median(ours, 9), median(theirs, 9)
    return [
        Line(
            "segment count while typing",
            "200k people, 2M orders",
            mine,
            other,
            "DuckDB",
            "below 1, under 100 ms",
            mine < other and mine < 0.1,
        )
    ]
