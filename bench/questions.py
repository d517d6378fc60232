"""Eight questions of segments, against a columnar database, a frame library and NumPy by hand.

Rivals are asked fairly: the same rows in memory, sorted by person, tables made before, two threads each, the
same answers checked. What ours keeps of a state of the book (the layout by person, the lines of a category)
is made by the first ask, which only checks the answer. NumPy by hand is what somebody would write for this
one question and these columns.
"""

import os

os.environ.setdefault("POLARS_MAX_THREADS", "2")

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from itertools import count
from typing import Any

import duckdb
import numpy as np
import polars as pl

from bench.measure import Line, median
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import Catalogue, HistorySnapshot, Lines, Orders, People
from loyalbell.core.rhythm.return_curve import typical_gap
from loyalbell.core.segments.evaluation import bounds, evaluate
from loyalbell.core.segments.model import Rule, read_rule
from loyalbell.core.segments.periods import LastDays
from loyalbell.demo.build import NOW, ZONE

PEOPLE, ORDERS, LINES = 200_650, 2_990_000, 4_100_000
DAY, RUNS = 86_400, 9
CATEGORIES = ("food", "care", "toys", "beds", "leads", "bowls", "coats", "visits")
ITEMS = 160
NOW_AT = int(NOW.timestamp())
EPOCH_DAY = 719_163


def ledger(seed: int = 1, everybody: int = PEOPLE) -> HistorySnapshot:
    """Orders of three and a half years, heavy buyers among them, two in a hundred voided later."""
    rng = np.random.default_rng(seed)
    orders, lines = ORDERS * everybody // PEOPLE, LINES * everybody // PEOPLE
    at = np.sort(rng.integers(NOW_AT - 1_275 * DAY, NOW_AT, orders))
    person = (everybody * rng.random(orders) ** 1.6).astype(np.int32)
    voided = rng.random(orders) < 0.02
    void_at = np.where(voided, np.minimum(at + rng.integers(3_600, 20 * DAY, orders), NOW_AT), NEVER)
    money = rng.integers(300, 20_000, orders)
    of = np.sort(rng.integers(0, orders, lines))
    item = rng.integers(1, ITEMS + 1, lines).astype(np.int32)
    birthday = rng.random(everybody) < 0.6
    people = People.of(
        np.arange(everybody),
        np.full(everybody, -NEVER),
        birthday_month=np.where(birthday, rng.integers(1, 13, everybody), 0),
        birthday_day=np.where(birthday, rng.integers(1, 29, everybody), 0),
    )
    items = {
        number: (f"Item {number}", CATEGORIES[number % len(CATEGORIES)], 1) for number in range(1, ITEMS + 1)
    }
    return HistorySnapshot(
        ZONE,
        "USD",
        people,
        Orders.of(
            person=person, at=at, department=rng.integers(1, 5, orders), money=money, void_at=void_at
        ),
        lines=Lines.of(
            key=of, person=person[of], at=at[of], item=item, money=rng.integers(100, 9_000, lines),
            void_at=void_at[of],
        ),
        catalogue=Catalogue(departments={1: "A", 2: "B", 3: "C", 4: "D"}, items=items),
    )  # fmt: skip


@dataclass(frozen=True)
class Question:
    name: str
    rule: dict[str, Any]
    sql: str
    frame: Callable[["Rivals"], int]
    by_hand: Callable[["Rivals"], int]


class Rivals:
    """The rows of a ledger as each rival likes them, and the instants that the questions name."""

    def __init__(self, snapshot: HistorySnapshot) -> None:
        self.snapshot = snapshot
        orders, lines = snapshot.orders, snapshot.lines
        by = np.lexsort((orders.at, orders.person))
        self.person, self.at = orders.person[by], orders.at[by]
        self.money, self.department = orders.money[by], orders.department[by].astype(np.int8)
        self.void_at = orders.void_at[by]
        self.stands = self.void_at > NOW_AT
        self.starts = np.searchsorted(self.person, np.arange(PEOPLE + 1))
        lines_by = np.lexsort((lines.at, lines.person))
        self.line_person, self.line_money = lines.person[lines_by], lines.money[lines_by]
        self.category = (lines.item[lines_by] % len(CATEGORIES)).astype(np.int8)
        self.line_stands = lines.void_at[lines_by] > NOW_AT
        self.zone = snapshot.zone
        self.since = {
            days: bounds(LastDays(days=days), NOW, ZONE)[0] for days in (14, 30, 31, 60, 61, 90, 365, 730)
        }
        self.day = self._local_days()
        self.month, self.born = snapshot.people.birthday_month, snapshot.people.birthday_day
        self.wanted = [(one.month, one.day) for one in (NOW.date() + timedelta(days=n) for n in range(15))]
        self.gap = float(typical_gap(snapshot, NOW_AT) or 60.0)
        self.duck = self._duck()
        self.orders = pl.DataFrame(
            {
                "person": self.person, "at": self.at, "money": self.money, "department": self.department,
                "stands": self.stands, "day": self.day,
            }
        )  # fmt: skip
        self.lines = pl.DataFrame(
            {
                "person": self.line_person, "money": self.line_money, "category": self.category,
                "stands": self.line_stands,
            }
        )  # fmt: skip
        self.people = pl.DataFrame({"id": np.arange(PEOPLE), "month": self.month, "day": self.born})

    def _local_days(self) -> Any:
        from loyalbell.core.history.visits import local_days

        return local_days(self.at, self.zone).astype(np.int32)

    def _duck(self) -> duckdb.DuckDBPyConnection:
        connection = duckdb.connect()
        connection.execute("SET threads TO 2")
        connection.register(
            "order_rows",
            {
                "person": self.person, "placed": self.at, "money": self.money, "department": self.department,
                "stands": self.stands, "day": self.day,
            },
        )  # fmt: skip
        connection.register(
            "line_rows",
            {
                "person": self.line_person, "money": self.line_money, "category": self.category,
                "stands": self.line_stands,
            },
        )  # fmt: skip
        connection.register("people_rows", {"id": np.arange(PEOPLE), "month": self.month, "day": self.born})
        for name in ("order", "line", "people"):
            connection.execute(f"CREATE TABLE {name}s AS SELECT * FROM {name}_rows")
        return connection


def _counted(rivals: Rivals, mask: Any) -> Any:
    """Orders a person among those of a mask, by sums between each person's bounds."""
    return np.diff(np.concatenate(([0], np.cumsum(mask)))[rivals.starts])


def _nth_by_hand(rivals: Rivals, nth: int = 3, days: int = 365) -> int:
    rank = np.cumsum(rivals.stands)
    before = np.concatenate(([0], rank))[rivals.starts[:-1]]
    hit = rivals.stands & (rivals.at >= rivals.since[days])
    hit &= rank - before[rivals.person] == nth
    return int(hit.sum())


def _last_by_hand(rivals: Rivals) -> int:
    near = _counted(rivals, rivals.stands & (rivals.at >= rivals.since[31]))
    wide = _counted(rivals, rivals.stands & (rivals.at >= rivals.since[61]))
    return int(((wide > 0) & (near == 0)).sum())


def _late_by_hand(rivals: Rivals) -> int:
    person, day = rivals.person[rivals.stands], rivals.day[rivals.stands]
    new = np.ones(len(person), dtype=bool)
    new[1:] = (person[1:] != person[:-1]) | (day[1:] != day[:-1])
    person, day = person[new], day[new]
    same = person[1:] == person[:-1]
    length, whose = np.diff(day)[same], person[1:][same]
    length = np.sort((whose.astype(np.int64) << 32) | length) & 0xFFFFFFFF
    own = np.bincount(whose, minlength=PEOPLE)
    starts = np.concatenate(([0], np.cumsum(own)[:-1]))
    middle, has = np.zeros(PEOPLE), own > 0
    low, high = starts[has] + (own[has] - 1) // 2, starts[has] + own[has] // 2
    middle[has] = (length[low] + length[high]) / 2
    bought = np.bincount(person, minlength=PEOPLE)
    last = np.zeros(PEOPLE, dtype=np.int64)
    last[person] = day
    gap = (own * middle + 2 * rivals.gap) / (own + 2)
    today = NOW.date().toordinal() - EPOCH_DAY
    late = (today - last) / np.maximum(gap, 1.0)
    return int(((late > 1.25) & (late <= 2.0) & (bought > 0)).sum())


LATE_SQL = """
WITH days AS (SELECT DISTINCT person, day FROM orders WHERE stands),
steps AS (SELECT person, day, day - lag(day) OVER (PARTITION BY person ORDER BY day) AS gap FROM days),
own AS (SELECT person, count(gap) AS n, median(gap) AS mid, max(day) AS last, count(*) AS bought
        FROM steps GROUP BY person)
SELECT count(*) FROM own, (SELECT $gap::DOUBLE AS shop, $today::INT AS today)
WHERE (today - last) / greatest((n * coalesce(mid, 0) + 2 * shop) / (n + 2), 1.0) > 1.25
  AND (today - last) / greatest((n * coalesce(mid, 0) + 2 * shop) / (n + 2), 1.0) <= 2.0
"""


def _late_frame(rivals: Rivals) -> int:
    today = NOW.date().toordinal() - EPOCH_DAY
    days = rivals.orders.lazy().filter(pl.col("stands")).select("person", "day").unique()
    own = (
        days.sort("person", "day")
        .with_columns(gap=pl.col("day").diff().over("person"))
        .group_by("person")
        .agg(n=pl.col("gap").count(), mid=pl.col("gap").median(), last=pl.col("day").max())
    )
    gap = (pl.col("n") * pl.col("mid").fill_null(0.0) + 2 * rivals.gap) / (pl.col("n") + 2)
    late = (today - pl.col("last")) / pl.max_horizontal(gap, pl.lit(1.0))
    return int(own.filter((late > 1.25) & (late <= 2.0)).select(pl.len()).collect().item())


def _order(**more: Any) -> dict[str, Any]:
    return {"about": "orders", **more}


def _days(days: int) -> dict[str, Any]:
    return {"kind": "last days", "days": days}


QUESTIONS = (
    Question(
        "ordered at least n times in a period",
        _order(comparison="at least", value=3, period=_days(90)),
        "SELECT count(*) FROM (SELECT person FROM orders WHERE stands AND placed >= $d90 GROUP BY person"
        " HAVING count(*) >= 3)",
        lambda r: _grouped(r, pl.col("at") >= r.since[90], pl.len() >= 3),
        lambda r: int((_counted(r, r.stands & (r.at >= r.since[90])) >= 3).sum()),
    ),
    Question(
        "spent on a category at least",
        {"about": "items", "measure": "sum", "category": "toys", "value": 10_000},
        "SELECT count(*) FROM (SELECT person FROM lines WHERE stands AND category = 2 GROUP BY person"
        " HAVING sum(money) >= 10000)",
        lambda r: int(
            r.lines.lazy()
            .filter(pl.col("stands") & (pl.col("category") == 2))
            .group_by("person")
            .agg(pl.col("money").sum())
            .filter(pl.col("money") >= 10_000)
            .select(pl.len())
            .collect()
            .item()
        ),
        lambda r: _spent_by_hand(r, 2, 10_000),
    ),
    Question(
        "n-th order within a period",
        _order(nth=3, period=_days(365)),
        "SELECT count(*) FROM (SELECT placed, row_number() OVER (PARTITION BY person ORDER BY placed) AS n"
        " FROM orders WHERE stands) WHERE n = 3 AND placed >= $d365",
        lambda r: int(
            r.orders.lazy()
            .filter(pl.col("stands"))
            .with_columns(n=pl.int_range(pl.len()).over("person"))
            .filter((pl.col("n") == 2) & (pl.col("at") >= r.since[365]))
            .select(pl.len())
            .collect()
            .item()
        ),
        _nth_by_hand,
    ),
    Question(
        "last order 31 to 60 days ago",
        {
            "match": "all",
            "lines": [
                _order(measure="last", comparison="at least", value=31),
                _order(measure="last", comparison="at most", value=60),
            ],
        },
        "SELECT count(*) FROM (SELECT person, max(placed) AS last FROM orders WHERE stands GROUP BY person)"
        " WHERE last >= $d61 AND last < $d31",
        lambda r: _grouped(r, None, pl.col("at").max().is_between(r.since[61], r.since[31] - 1)),
        lambda r: _last_by_hand(r),
    ),
    Question(
        "nested groups",
        {
            "match": "any",
            "lines": [
                {
                    "match": "all",
                    "lines": [
                        _order(value=2, period=_days(365)),
                        _order(comparison="exactly", value=0, period=_days(60)),
                    ],
                },
                {
                    "match": "all",
                    "lines": [
                        _order(measure="sum", value=50_000, period=_days(730)),
                        _order(value=1, department=2),
                    ],
                },
            ],
        },
        "SELECT count(*) FROM (SELECT person, count(*) FILTER (WHERE placed >= $d365) AS year,"
        " count(*) FILTER (WHERE placed >= $d60) AS near, sum(money) FILTER (WHERE placed >= $d730) AS spent,"
        " count(*) FILTER (WHERE department = 2) AS there FROM orders WHERE stands GROUP BY person)"
        " WHERE (year >= 2 AND near = 0) OR (spent >= 50000 AND there >= 1)",
        lambda r: _nested_frame(r),
        lambda r: _nested_by_hand(r),
    ),
    Question(
        "birthday within 14 days",
        {"about": "date", "comparison": "within", "value": 14},
        "SELECT count(*) FROM peoples WHERE (month, day) IN (SELECT unnest($months), unnest($days))",
        lambda r: r.people.filter((pl.col("month") * 32 + pl.col("day")).is_in(r.keys)).height,
        lambda r: int(r.table[r.month * 32 + r.born].sum()),
    ),
    Question(
        "in one, not in another",
        {
            "match": "all",
            "lines": [
                _order(value=2, period=_days(730)),
                {"match": "none", "lines": [_order(department=3, value=1, period=_days(365))]},
            ],
        },
        "SELECT count(*) FROM (SELECT person FROM orders WHERE stands AND placed >= $d730 GROUP BY person"
        " HAVING count(*) >= 2 EXCEPT SELECT DISTINCT person FROM orders WHERE stands AND department = 3"
        " AND placed >= $d365)",
        lambda r: _except_frame(r),
        lambda r: int(
            (
                (_counted(r, r.stands & (r.at >= r.since[730])) >= 2)
                & (_counted(r, r.stands & (r.department == 3) & (r.at >= r.since[365])) == 0)
            ).sum()
        ),
    ),
    Question(
        "late against their own rhythm",
        {"about": "band", "bands": ["late"]},
        LATE_SQL,
        _late_frame,
        _late_by_hand,
    ),
)


def _grouped(rivals: Rivals, only: Any, having: Any) -> int:
    frame = rivals.orders.lazy().filter(pl.col("stands"))
    frame = frame if only is None else frame.filter(only)
    met = frame.group_by("person").agg(met=having).filter(pl.col("met"))
    return int(met.select(pl.len()).collect().item())


def _spent_by_hand(rivals: Rivals, category: int, least: int) -> int:
    rows = np.flatnonzero((rivals.category == category) & rivals.line_stands)
    spent = np.bincount(rivals.line_person[rows], weights=rivals.line_money[rows], minlength=PEOPLE)
    return int((spent >= least).sum())


def _nested_frame(rivals: Rivals) -> int:
    at, money = pl.col("at"), pl.col("money")
    own = (
        rivals.orders.lazy()
        .filter(pl.col("stands"))
        .group_by("person")
        .agg(
            year=(at >= rivals.since[365]).sum(),
            near=(at >= rivals.since[60]).sum(),
            spent=money.filter(at >= rivals.since[730]).sum(),
            there=(pl.col("department") == 2).sum(),
        )
    )
    met = ((pl.col("year") >= 2) & (pl.col("near") == 0)) | (
        (pl.col("spent") >= 50_000) & (pl.col("there") >= 1)
    )
    return int(own.filter(met).select(pl.len()).collect().item())


def _nested_by_hand(rivals: Rivals) -> int:
    year = _counted(rivals, rivals.stands & (rivals.at >= rivals.since[365])) >= 2
    near = _counted(rivals, rivals.stands & (rivals.at >= rivals.since[60])) == 0
    sums = np.concatenate(
        ([0], np.cumsum(np.where(rivals.stands & (rivals.at >= rivals.since[730]), rivals.money, 0)))
    )
    spent = np.diff(sums[rivals.starts]) >= 50_000
    there = _counted(rivals, rivals.stands & (rivals.department == 2)) >= 1
    return int(((year & near) | (spent & there)).sum())


def _except_frame(rivals: Rivals) -> int:
    standing = rivals.orders.lazy().filter(pl.col("stands"))
    one = standing.filter(pl.col("at") >= rivals.since[730]).group_by("person").agg(n=pl.len())
    other = (
        standing.filter((pl.col("department") == 3) & (pl.col("at") >= rivals.since[365]))
        .select("person")
        .unique()
    )
    left = one.filter(pl.col("n") >= 2).join(other, on="person", how="anti")
    return int(left.select(pl.len()).collect().item())


def lines() -> Iterator[Line]:
    snapshot = ledger()
    rivals = Rivals(snapshot)
    rivals.keys = [month * 32 + day for month, day in rivals.wanted]
    rivals.table = np.zeros(16 * 32, dtype=bool)
    rivals.table[rivals.keys] = True
    known = {f"d{days}": at for days, at in rivals.since.items()} | {
        "gap": rivals.gap,
        "today": NOW.date().toordinal() - EPOCH_DAY,
        "months": [month for month, _ in rivals.wanted],
        "days": [day for _, day in rivals.wanted],
    }
    for question in QUESTIONS:
        yield from _asked(question, snapshot, rivals, known)


def _asked(
    question: Question, snapshot: HistorySnapshot, rivals: Rivals, known: dict[str, Any]
) -> Iterator[Line]:
    root = question.rule if "lines" in question.rule else {"match": "all", "lines": [question.rule]}
    rule: Rule = read_rule({"version": 1, "root": root})
    later = count()
    values = {name: value for name, value in known.items() if f"${name}" in question.sql}
    ask = {
        # a second later each time: lines asked at one instant are kept, and that would be no answer
        "ours": lambda: int(evaluate(rule, snapshot, NOW + timedelta(seconds=next(later))).sum()),
        "DuckDB": lambda: int(rivals.duck.execute(question.sql, values).fetchone()[0]),
        "polars": lambda: question.frame(rivals),
        "by hand": lambda: question.by_hand(rivals),
    }
    answers = {name: work() for name, work in ask.items()}
    assert len(set(answers.values())) == 1, (question.name, answers)
    times = {name: median(work, RUNS) for name, work in ask.items()}
    size = f"{PEOPLE / 1_000:.0f}k, {ORDERS / 1e6:.2f}M, {LINES / 1e6:.1f}M"
    for name in ("DuckDB", "polars"):
        ahead = times["ours"] < times[name]
        yield Line(question.name, size, times["ours"], times[name], name, "below 1", ahead)
    near = times["ours"] <= 2 * times["by hand"]
    yield Line(question.name, size, times["ours"], times["by hand"], "NumPy by hand", "below 2", near)
