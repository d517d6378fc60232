"""Five rules, one nested three deep, against DuckDB; and the size of a segment on each of 365 days."""

from datetime import timedelta
from itertools import count

from bench.measure import Line, median, once
from bench.segment_count import in_duckdb, made_up_ledger
from loyalbell.core.segments import model as m
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.evaluation_context import bounds
from loyalbell.core.segments.model import Group, Rule
from loyalbell.core.segments.size_over_time import daily_instants, sizes
from loyalbell.demo.build import NOW, ZONE

LAPSED = m.OrdersCondition(comparison="exactly", value=0, period=m.LastDays(days=60))
SPENT = m.OrdersCondition(measure="sum", value=20_000, period=m.LastDays(days=365))
RULES: dict[str, tuple[Rule, str]] = {
    "lapsed": (
        Rule(root=Group(lines=[m.OrdersCondition(), LAPSED])),
        "count(o.at) >= 1 AND count(o.at) FILTER (WHERE o.at >= $sixty) = 0",
    ),
    "bought once": (Rule(root=Group(lines=[m.OrdersCondition(comparison="exactly")])), "count(o.at) = 1"),
    "spent in a year": (
        Rule(root=Group(lines=[SPENT])),
        "coalesce(sum(o.money) FILTER (WHERE o.at >= $year), 0) >= 20000",
    ),
    "average of an order": (
        Rule(root=Group(lines=[m.OrdersCondition(measure="average", value=10_000)])),
        "count(o.at) > 0 AND sum(o.money) >= 10000 * count(o.at)",
    ),
    "nested three deep": (
        Rule(
            root=Group(
                lines=[
                    m.OrdersCondition(value=2),
                    Group(
                        match="any",
                        lines=[
                            LAPSED,
                            Group(match="none", lines=[SPENT, m.OrdersCondition(value=3, department=2)]),
                        ],
                    ),
                ]
            )
        ),
        (
            "count(o.at) >= 2 AND (count(o.at) FILTER (WHERE o.at >= $sixty) = 0 OR NOT"
            " (coalesce(sum(o.money) FILTER (WHERE o.at >= $year), 0) >= 20000 OR count(o.at) FILTER (WHERE"
            " o.department = 2) >= 3))"
        ),
    ),
}


def lines() -> list[Line]:
    snapshot = made_up_ledger()
    connection = in_duckdb(snapshot)
    edges = {
        "now": int(NOW.timestamp()),
        "sixty": bounds(m.LastDays(days=60), NOW, ZONE)[0],
        "year": bounds(m.LastDays(days=365), NOW, ZONE)[0],
    }
    found = []
    later = count()  # a second later each time: lines asked at one instant are kept, and that is no answer
    for name, (rule, having) in RULES.items():
        query = f"""SELECT count(*) FROM (SELECT p.id FROM person p LEFT JOIN orders o ON o.person = p.id
          AND o.void_at > $now AND o.at <= $now GROUP BY p.id HAVING {having})"""
        given = {key: value for key, value in edges.items() if f"${key}" in query}

        def ours(rule: Rule = rule) -> int:
            return int(evaluate(rule, snapshot, NOW + timedelta(seconds=next(later))).sum())

        def theirs(query: str = query, given: dict[str, int] = given) -> int:
            return connection.execute(query, given).fetchone()[0]

        assert ours() == theirs(), name
        mine, other = median(ours, 5), median(theirs, 3)
        reached = mine < other and mine < 0.1
        found.append(
            Line(
                f"segment: {name}",
                "200k people, 2M orders",
                mine,
                other,
                "DuckDB",
                "below 1, under 100 ms",
                reached,
            )
        )
    connection.close()
    instants = daily_instants(NOW, ZONE, 365)
    rule = RULES["nested three deep"][0]
    mine = once(lambda: sizes(rule, snapshot, instants))
    one = median(lambda: evaluate(rule, snapshot, NOW + timedelta(seconds=next(later))), 3)
    found.append(
        Line(
            "its size on each of 365 days",
            "the same",
            mine,
            365 * one,
            "asking 365 times",
            "under 3 s",
            mine < 3,
        )
    )
    return found
