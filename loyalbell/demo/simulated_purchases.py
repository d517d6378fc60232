"""What the made-up people will still do of themselves as the demo's clock walks on: their habits,
continued, and looks at the site before some of them.
"""

import json
from collections.abc import Iterable
from datetime import datetime, time, timedelta
from pathlib import Path
from random import Random
from typing import Any

from loyalbell.core.clock.local_time import at_local, local_day
from loyalbell.demo.order_history import MINUTES_OPEN, Bought, favourites_in, lines_of, opening_day
from loyalbell.demo.passing_days import TO_COME
from loyalbell.demo.people import Habit, MadeUp
from loyalbell.demo.vocabulary import DEPARTMENTS

WEEKS = 30
SEED = 977
LOOKS_FIRST = 0.3
"""Chance that somebody looked at the site before buying, or looked and did not come."""
PAGES = ("/groom", "/new", "/brunch", "/check-ups")
GIVES_UP = 0.04
"""Chance, at each return, that somebody does not come any more: those the sequences are for."""


def write_purchases_to_come(
    data: Path, customers: Iterable[MadeUp], bought: Iterable[Bought], now: datetime, zone: str
) -> None:
    """Writes the orders and visits of the coming weeks, in order of time, beside the book."""
    last: dict[tuple[int, str], datetime] = {}
    for order in bought:
        key = (order.person, order.department)
        last[key] = max(order.at, last.get(key, order.at))
    rng, rows = Random(SEED), []
    for person in customers:
        for habit in person.habits:
            before = last.get((person.number, habit.department))
            if before is not None and habit.until >= local_day(now, zone) - timedelta(days=1):
                rows += _of_habit(person.number, habit, before, now, zone, rng)
    rows.sort(key=lambda row: (row["at"], row["person"]))
    (data / TO_COME).write_text(json.dumps(rows), encoding="utf-8")


def _of_habit(
    person: int, habit: Habit, before: datetime, now: datetime, zone: str, rng: Random
) -> list[dict[str, Any]]:
    favourites, day = favourites_in(habit.department, rng), local_day(before, zone)
    rows: list[dict[str, Any]] = []
    end = local_day(now, zone) + timedelta(weeks=WEEKS)
    while True:
        day += timedelta(days=max(1, round(rng.gauss(habit.gap, habit.gap * habit.spread))))
        if day > end:
            return rows
        low, high = MINUTES_OPEN[habit.department]
        minutes = rng.randrange(low, high)
        at = at_local(opening_day(day, habit.department), time(minutes // 60, minutes % 60), zone)
        if at > now and rng.random() < LOOKS_FIRST:
            rows += _visits(person, now, at, rng)
        if rng.random() < GIVES_UP:
            return rows
        if at > now:
            lines = lines_of(habit, favourites, day, rng)
            rows.append(
                {
                    "person": person,
                    "department": DEPARTMENTS.index(habit.department) + 1,
                    "at": int(at.timestamp()),
                    "lines": lines,
                }
            )


def _visits(person: int, now: datetime, at: datetime, rng: Random) -> list[dict[str, Any]]:
    """One to three looks at the site within the two days before ``at``, and sometimes a filled basket."""
    page = rng.choice(PAGES)
    kinds = ["viewed a page"] * rng.randint(1, 3) + ["filled a basket"] * (rng.random() < 0.4)
    first = max(now + timedelta(minutes=5), at - timedelta(minutes=rng.randint(60, 2 * 24 * 60)))
    moments = [first + timedelta(minutes=4 * look) for look in range(len(kinds))]
    return [
        {"person": person, "at": int(moment.timestamp()), "kind": kind, "page": page}
        for moment, kind in zip(moments, kinds, strict=True)
        if moment < at
    ]
