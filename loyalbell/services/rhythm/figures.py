"""The figures of Rhythm as plain data, for the pages and for the command line."""

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from loyalbell.core.clock.local_time import at_local, start_of_day
from loyalbell.core.history.money import minor_digits
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import today_number
from loyalbell.core.rhythm import customer_value as models
from loyalbell.core.rhythm.cohorts import cohorts, say_month
from loyalbell.core.rhythm.concentration import concentration
from loyalbell.core.rhythm.return_curve import (
    MOST_RETURNED,
    THUMB,
    Part,
    RepeatCurve,
    buying_days,
    first_gaps,
    gaps,
    repeat_curve,
)
from loyalbell.core.rhythm.rfm import SCORES, TIES, grid
from loyalbell.services.application import Application
from loyalbell.services.rhythm.queries import FALLBACK_GAP

YEAR = 365 * 86_400
MONTHS_BACK = 12
TOP_SHARES = (0.01, 0.05, 0.1, 0.2, 0.3, 0.5)


class NotAPart(Exception):
    """A department, category, item or instant that cannot be found or read, in words."""


@dataclass(frozen=True)
class Looking:
    """What is looked at: the ledger, the instant, and the part of the business."""

    snapshot: HistorySnapshot
    as_of: int
    part: Part

    @property
    def today(self) -> int:
        return today_number(self.as_of, self.snapshot.zone)


def read_instant(text: str | None, zone: str, now: datetime) -> datetime:
    """An ISO instant; without an offset in ``zone``; a plain day means its last second. Raises
    ``NotAPart``.
    """
    if not text:
        return now
    try:
        if len(text) <= 10:
            end = start_of_day(date.fromisoformat(text) + timedelta(days=1), zone)
            return end - timedelta(seconds=1)
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise NotAPart(f"“{text}” is not an instant such as 2026-05-12 or 2026-05-12T13:40:00Z.") from None
    if moment.tzinfo is None:
        return at_local(moment.date(), time(moment.hour, moment.minute, moment.second), zone)
    return moment.astimezone(ZoneInfo("UTC"))


def part_of(
    snapshot: HistorySnapshot,
    department: str | None = None,
    category: str | None = None,
    item: str | None = None,
) -> Part:
    """The part with these names. Raises ``NotAPart``."""

    def number(names: dict[int, str], name: str | None, what: str) -> int | None:
        if not name:
            return None
        for at, known in names.items():
            if known.casefold() == name.casefold() or str(at) == name:
                return at
        raise NotAPart(f"There is no {what} “{name}”.")

    known = snapshot.catalogue
    if category and category not in {one[1] for one in known.items.values()}:
        raise NotAPart(f"There is no category “{category}”.")
    items = {at: name for at, (name, _, _) in known.items.items()}
    return Part(
        number(known.departments, department, "department"), category or None, number(items, item, "item")
    )


def look(application: Application, as_of: str | None = None, **names: str | None) -> Looking:
    """Raises ``NotAPart``."""
    snapshot = application.snapshot()
    when = read_instant(as_of, snapshot.zone, application.clock.now())
    return Looking(snapshot, int(when.timestamp()), part_of(snapshot, **names))


def repeat(looking: Looking) -> dict[str, Any]:
    """``all``: from every purchase to the next; ``first_to_second``: from the first alone."""
    bought = buying_days(looking.snapshot, looking.as_of, looking.part)
    return {
        "all": say_curve(repeat_curve(*gaps(bought, looking.today))),
        "first_to_second": say_curve(repeat_curve(*first_gaps(bought, looking.today))),
    }


def second_purchases(
    looking: Looking, by_item: bool = False, fewest: int = 20, most: int = 12
) -> list[dict[str, Any]]:
    """By the department, or an item, of the first purchase: how many came back at all, and how soon half of
    those did.
    """
    snapshot = looking.snapshot
    bought = buying_days(snapshot, looking.as_of)
    first = np.ones(len(bought.person), dtype=np.bool_)
    first[1:] = bought.person[1:] != bought.person[:-1]
    length, came = first_gaps(bought, looking.today)
    where = _first_of(looking, by_item)[bought.person[first]]
    items = {at: name for at, (name, _, _) in snapshot.catalogue.items.items()}
    names = items if by_item else snapshot.catalogue.departments
    found: list[dict[str, Any]] = []
    for at in np.unique(where):
        inside = where == at
        if int(at) in names and int(inside.sum()) >= fewest:
            curve = repeat_curve(length[inside], came[inside])
            found.append(
                {
                    "first": names[int(at)],
                    "people": curve.waits,
                    "ever": curve.ever,
                    "typical_days": curve.typical,
                }
            )
    return sorted(found, key=lambda one: -int(one["people"]))[:most]


def _first_of(looking: Looking, by_item: bool) -> Any:
    """The department of each person's first order, or the item of its first line; 0 for none."""
    part: Any = looking.snapshot.lines if by_item else looking.snapshot.orders
    rows = part.span(-(2**62), looking.as_of)
    kept = np.flatnonzero(part.void_at[rows] > looking.as_of)[::-1]
    found = np.zeros(len(looking.snapshot.people), dtype=np.int64)
    found[part.person[rows][kept]] = (part.item if by_item else part.department)[rows][kept]
    return found


def in_common(looking: Looking, percent: float, most: int = 5) -> list[dict[str, Any]]:
    """What the top buyers have oftener than the others: departments, categories, tags, memberships.

    ``share`` of the top against ``others``; the greatest differences first, those of less than 5 in 100 left
    out.
    """
    snapshot, as_of = looking.snapshot, looking.as_of
    found = concentration(snapshot, as_of, None, looking.part)
    top = found.top_people(percent / 100)
    rest = (
        snapshot.per_person(
            snapshot.orders.person[: np.searchsorted(snapshot.orders.at, as_of, side="right")]
        )
        > 0
    ) & ~top
    if not top.any() or not rest.any():
        return []
    traits: list[dict[str, Any]] = []
    for words, has in _traits(snapshot, as_of):
        share, others = float(has[top].mean()), float(has[rest].mean())
        if share - others >= 0.05:
            traits.append({"words": words, "share": share, "others": others})
    return sorted(traits, key=lambda one: float(one["others"]) - float(one["share"]))[:most]


def _traits(snapshot: HistorySnapshot, as_of: int) -> list[tuple[str, Any]]:
    orders, lines = snapshot.orders, snapshot.lines
    size, found = len(snapshot.people), []

    def people(person: Any) -> Any:
        out = np.zeros(size, dtype=np.bool_)
        out[person] = True
        return out

    for at, name in snapshot.catalogue.departments.items():
        found.append(
            (f"bought in {name}", people(orders.person[(orders.department == at) & (orders.at <= as_of)]))
        )
    categories: dict[str, list[int]] = {}
    for at, (_, category, _) in snapshot.catalogue.items.items():
        if category:
            categories.setdefault(category, []).append(at)
    for category, items in categories.items():
        found.append(
            (f"bought {category}", people(lines.person[np.isin(lines.item, items) & (lines.at <= as_of)]))
        )
    for at, name in snapshot.catalogue.tags.items():
        found.append((f"carry the tag {name}", snapshot.tagged(at, as_of)))
    found.append(("hold a membership", people(snapshot.memberships.person)))
    return found


def say_curve(curve: RepeatCurve) -> dict[str, Any]:
    """``curve``: (days, share not yet back); ``interval``: (days, low, high), 95 %."""
    typical = curve.typical
    return {
        "curve": [[int(day), float(share)] for day, share in zip(curve.days, curve.not_back, strict=True)],
        "interval": [
            [int(day), float(low), float(high)]
            for day, low, high in zip(curve.days, curve.low, curve.high, strict=True)
        ],
        "purchases": curve.waits,
        "returned": curve.returned,
        "ever": curve.ever,
        "typical_days": typical,
        "winback_days": curve.winback_line(),
        "winback_share": MOST_RETURNED,
        "thumb_days": [round(factor * typical) for factor in THUMB] if typical else None,
    }


def gap_of(looking: Looking) -> float:
    """The typical gap of the part looked at, in days."""
    bought = buying_days(looking.snapshot, looking.as_of, looking.part)
    return float(repeat_curve(*gaps(bought, looking.today)).typical or FALLBACK_GAP)


def recency_frequency_money(looking: Looking) -> dict[str, Any]:
    """Counts and money, recency by row and frequency by column, both from 1 (worst) to 5 (best)."""
    found = grid(looking.snapshot, looking.as_of, looking.part)
    cells = []
    for recency in range(1, SCORES + 1):
        for frequency in range(1, SCORES + 1):
            inside = (found.recency == recency) & (found.frequency == frequency)
            if bool(inside.any()):
                ago = looking.today - found.last_day[inside]
                times = found.purchases[inside]
                cells.append(
                    {
                        "recency": recency,
                        "frequency": frequency,
                        "people": int(inside.sum()),
                        "money": int(found.value[inside].sum()),
                        "days_ago": [int(ago.min()), int(ago.max())],
                        "purchases": [int(times.min()), int(times.max())],
                    }
                )
    return {"ties": TIES, "count": found.count.tolist(), "money": found.spent.tolist(), "cells": cells}


def concentrated(looking: Looking, days: int | None = None, top: float | None = None) -> dict[str, Any]:
    """Shares are of 1. ``curve`` is (share of people, share of money), the best spenders first."""
    found = concentration(looking.snapshot, looking.as_of, days, looking.part)
    shares = sorted({*TOP_SHARES, *([top] if top else [])})
    places = sorted({round(at * (found.people - 1) / 100) for at in range(101)}) if found.people else []
    return {
        "people": found.people,
        "money": found.money,
        "gini": found.gini,
        "days": days,
        "top": [
            {"share": share, "people": found.top_count(share), "of_money": found.top_share(share)}
            for share in shares
        ],
        "curve": [[0.0, 0.0], *([float((at + 1) / found.people), float(found.curve[at])] for at in places)],
    }


def by_cohort(looking: Looking) -> dict[str, Any]:
    """``active[k]`` of ``size`` bought k months after the month of their first purchase."""
    found = cohorts(looking.snapshot, looking.as_of, looking.part)
    return {
        "cohorts": [
            {"month": say_month(month), "size": int(size), "active": [int(n) for n in active if n >= 0]}
            for month, size, active in zip(found.months, found.sizes, found.active, strict=True)
            if size
        ]
    }


def value(
    looking: Looking,
    unit: str,
    ahead: float,
    people: bool = True,
    report: models.Progress = lambda share, words: None,
) -> dict[str, Any]:
    """The fitted models and what they expect over the next ``ahead`` units. Raises ``models.TooLittle``."""
    snapshot = looking.snapshot
    digits = minor_digits(snapshot.currency)
    made = models.summary(snapshot, looking.as_of, unit, looking.part)
    fitted = models.fit_bgnbd(made, unit, report)
    purchases, alive = fitted.expected(made, ahead), fitted.alive(made)
    report(0.6, "fitting what a purchase is worth")
    found: dict[str, Any] = {
        "unit": unit,
        "ahead": ahead,
        "buyers": len(made),
        "repeat_buyers": int((made.frequency > 0).sum()),
        "bgnbd": {name: getattr(fitted, name) for name in ("r", "alpha", "a", "b", "log_likelihood")},
        "gamma_gamma": None,
        "expected_purchases": float(purchases.sum()),
        "expected_money": None,
    }
    worth = None
    try:
        spending = models.fit_gamma_gamma(made, digits)
        worth = spending.expected(made, digits)
        found["gamma_gamma"] = {name: getattr(spending, name) for name in ("p", "q", "v", "log_likelihood")}
        found["expected_money"] = float((purchases * worth).sum())
    except models.TooLittle as problem:
        found["problem"] = str(problem)
    if people:
        ids = snapshot.people.ids[made.person]
        found["people"] = [
            {
                "person": int(ids[at]),
                "frequency": int(made.frequency[at]),
                "recency": float(made.recency[at]),
                "age": float(made.age[at]),
                "expected_purchases": float(purchases[at]),
                "alive": float(alive[at]),
                "expected_value": None if worth is None else float(worth[at]),
            }
            for at in range(len(made))
        ]
    return found


def calibration(looking: Looking, unit: str, share: float = 0.5) -> dict[str, Any]:
    """The last ``share`` of the history held out, expected from the part before.

    Raises ``models.TooLittle``.
    """
    orders = looking.snapshot.orders
    if not len(orders):
        raise models.TooLittle("Nothing has been bought yet.")
    begin = int(orders.at[0])
    edge = looking.as_of - int((looking.as_of - begin) * share)
    found = models.calibrate(looking.snapshot, looking.as_of, edge, unit, looking.part)
    return {
        "held_out_from": datetime.fromtimestamp(edge, ZoneInfo("UTC")).isoformat(),
        "ahead": found.ahead,
        "buyers": found.buyers,
        "expected": found.expected,
        "came": found.came,
        "bins": [
            {"purchases": [low, high], "buyers": buyers, "expected": expected, "came": came}
            for low, high, buyers, expected, came in found.bins
        ],
    }
