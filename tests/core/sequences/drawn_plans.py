"""Plans of sequences drawn at random, as JSON, for what must hold of each of them."""

from itertools import count
from typing import Any

from hypothesis import strategies as st

from loyalbell.core.sequences.plan import Plan, read_plan


def steps(depth: int, *more: st.SearchStrategy[dict[str, Any]]) -> st.SearchStrategy[list[dict[str, Any]]]:
    """Lists of up to four steps, forks within forks down to ``depth``; some of ``more`` among them."""
    kinds = [
        *more,
        st.builds(
            lambda release, channels: {
                "do": "message",
                "message": 1,
                "release": release,
                "channels": channels,
            },
            RELEASES,
            st.sampled_from([["email"], ["text", "email"]]),
        ),
        st.builds(
            lambda amount, unit: {"do": "wait", "span": {"amount": amount, "unit": unit}},
            st.integers(0, 6),
            st.sampled_from(["hours", "days"]),
        ),
        st.builds(
            lambda days: {
                "do": "wait",
                "kind": "until event",
                "happening": {"what": "order"},
                "span": {"amount": days, "unit": "days"},
            },
            st.integers(1, 5),
        ),
        st.builds(
            lambda at: {"do": "wait", "kind": "until time", "at": at, "weekdays": [0, 3]},
            st.sampled_from(["07:55", "16:10"]),
        ),
    ]
    if depth:
        inner = steps(depth - 1, *more)
        kinds += [
            st.builds(
                lambda share, one, two: {
                    "do": "lot",
                    "arms": [{"share": share, "steps": one}, {"share": 100 - share, "steps": two}],
                },
                st.integers(20, 80),
                inner,
                inner,
            ),
            st.builds(
                lambda count, one, two: {
                    "do": "fork",
                    "arms": [
                        {
                            "rule": {
                                "root": {
                                    "lines": [
                                        {
                                            "about": "orders",
                                            "value": count,
                                            "period": {"kind": "last days", "days": 9},
                                        }
                                    ]
                                }
                            },
                            "steps": one,
                        }
                    ],
                    "otherwise": two,
                },
                st.integers(1, 3),
                inner,
                inner,
            ),
            st.builds(
                lambda count, one: {
                    "do": "fork",
                    "arms": [
                        {
                            "rule": {
                                "root": {
                                    "lines": [
                                        {
                                            "about": "orders",
                                            "value": count,
                                            "period": {"kind": "since entering"},
                                        }
                                    ]
                                }
                            },
                            "steps": one,
                        }
                    ],
                },
                st.integers(1, 2),
                inner,
            ),
            st.builds(
                lambda line, one, two: {
                    "do": "fork",
                    "arms": [{"rule": {"root": {"lines": [line]}}, "steps": one}],
                    "otherwise": two,
                },
                OUR_DOINGS,
                inner,
                inner,
            ),
        ]
    return st.lists(st.one_of(kinds), min_size=1, max_size=4)


OUR_DOINGS = st.sampled_from(
    [
        {"about": "messages", "value": 1, "period": {"kind": "last days", "days": 3}},
        {"about": "messages", "comparison": "exactly", "value": 2},
        {"about": "messages", "value": 1, "channel": "text"},
        {"about": "sequences", "state": "finished", "days": 6},
        {"about": "sequences", "state": "left"},
    ]
)
ONLY = st.sampled_from(
    [
        None,
        {"root": {"lines": [{"about": "sequences", "state": "under way", "has": False}]}},
        {
            "root": {
                "lines": [
                    {
                        "about": "messages",
                        "comparison": "exactly",
                        "value": 0,
                        "period": {"kind": "last days", "days": 5},
                    }
                ]
            }
        },
    ]
)
RELEASES = st.sampled_from(
    [
        {},
        {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"},
        {"kind": "window", "begins": "19:00", "ends": "23:00"},
        {"kind": "exact", "begins": "09:15"},
    ]
)
STARTS = st.sampled_from(
    [
        {"on": "event", "happening": {"what": "order"}},
        {"on": "event", "happening": {"what": "order", "nth": 2}},
        {"on": "lack", "happening": {"what": "order"}, "days": 4},
        {"on": "segment", "way": "joins", "rule": {"root": {"lines": [{"about": "orders", "value": 2}]}}},
        {
            "on": "segment",
            "way": "is in",
            "rule": {
                "root": {
                    "lines": [{"about": "orders", "value": 1, "period": {"kind": "last days", "days": 3}}]
                }
            },
        },
    ]
)
PLANS = st.fixed_dictionaries(
    {
        "start": STARTS,
        "only": ONLY,
        "again": st.sampled_from([{"kind": "never"}, {"kind": "each"}, {"kind": "after", "days": 5}]),
        "stops": st.sampled_from([[], [{"what": "order"}], [{"what": "order", "least": 3_000}]]),
        "held_back": st.sampled_from([0, 30]),
        "patience": st.sampled_from([0, 3]),
        "steps": st.builds(lambda more: [*more, {"do": "message", "message": 1}], steps(2)),
    }
)
SIMPLE = st.fixed_dictionaries(
    {
        "start": STARTS,
        "again": st.sampled_from([{"kind": "never"}, {"kind": "each"}]),
        "patience": st.sampled_from([0, 3]),
        "steps": steps(0),
    }
)


def named(plan: dict[str, Any]) -> Plan:
    """With an identity for each step, the same whenever the same plan is drawn: arms are drawn by them."""
    ids = count()

    def name(steps_: list[dict[str, Any]]) -> None:
        for one in steps_:
            one["id"] = f"s{next(ids)}"
            for arm in one.get("arms", ()):
                name(arm.get("steps", []))
            name(one.get("otherwise", []))

    copied = read_copy(plan)
    name(copied["steps"])
    return read_plan(copied)


def read_copy(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: read_copy(one) for key, one in value.items()}
    return [read_copy(one) for one in value] if isinstance(value, list) else value
