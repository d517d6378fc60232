"""The coming weeks drawn from the rhythm: when each person may be expected to buy again."""

from dataclasses import replace

import numpy as np

from loyalbell.core.clock.zones import zone_of
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import HistorySnapshot, Orders
from loyalbell.core.rhythm.bands import rhythms
from loyalbell.core.rhythm.return_curve import RepeatCurve

SPREAD = 0.35
"""How far a person's gaps lie around their expected one, as a share of it (a choice of ours, no source)."""
MOST_RETURNS = 80
NOON, HOURS = 12 * 3_600, 6 * 3_600


def with_expected_orders(
    snapshot: HistorySnapshot, now: int, days: int, gap: float, curve: RepeatCurve, seed: int
) -> HistorySnapshot:
    """The ledger with drawn orders of the next ``days`` local days added, each at about noon.

    Whether somebody comes at all is drawn by ``curve.still_come`` after their days without a purchase, and
    after each return by ``curve.ever``; when, around their own expected gap (``gap`` in days is the shop's).
    Drawn orders have negative keys, the department of the person's last order, and no lines.
    """
    found, rng, zone = rhythms(snapshot, now, gap), np.random.default_rng(seed), zone_of(snapshot.zone)
    today = zone.day(now)
    people = np.flatnonzero((found.purchases > 0) & snapshot.on_file(now))
    since = today - found.last_day[people]
    still = (
        np.array([curve.still_come(float(one)) for one in range(int(since.max()) + 1)])
        if len(since)
        else np.zeros(0)
    )
    coming = people[rng.random(len(people)) < still[since]] if len(people) else people
    day = found.last_day[coming] + _gap(found.gap[coming], rng)
    overdue = day <= today
    day[overdue] = today + 1 + np.floor(rng.exponential(found.gap[coming][overdue] / 2)).astype(np.int64)
    drawn: list[tuple[int, int]] = []
    for _ in range(MOST_RETURNS):
        within = day <= today + days
        coming, day = coming[within], day[within]
        if not len(coming):
            break
        drawn += list(zip(coming.tolist(), day.tolist(), strict=True))
        again = rng.random(len(coming)) < curve.ever
        coming = coming[again]
        day = day[again] + _gap(found.gap[coming], rng)
    return replace(snapshot, orders=snapshot.orders.with_rows(_orders(snapshot, drawn, rng)))


def _gap(
    expected: "np.ndarray[tuple[int], np.dtype[np.float64]]", rng: np.random.Generator
) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    factor = np.clip(rng.normal(1.0, SPREAD, len(expected)), 0.2, 3.0)
    days: np.ndarray[tuple[int], np.dtype[np.int64]] = np.maximum(np.rint(expected * factor), 1).astype(
        np.int64
    )
    return days


def _orders(snapshot: HistorySnapshot, drawn: list[tuple[int, int]], rng: np.random.Generator) -> Orders:
    zone, orders = zone_of(snapshot.zone), snapshot.orders
    department = np.zeros(len(snapshot.people), dtype=np.int32)
    department[orders.person] = orders.department
    money = np.zeros(len(snapshot.people), dtype=np.int64)
    money[orders.person] = orders.money
    person = np.array([one for one, _ in drawn], dtype=np.int32)
    at = [zone.instant(day, NOON) + int(rng.integers(-HOURS // 2, HOURS // 2)) for _, day in drawn]
    return Orders.of(
        key=-1 - np.arange(len(drawn)),
        person=person,
        at=np.array(at, dtype=np.int64),
        department=department[person],
        money=money[person],
        void_at=np.full(len(drawn), NEVER),
    )
