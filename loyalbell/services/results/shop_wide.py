"""What all marketing together adds: everybody else beside the few who get none for a quarter."""

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import Ints, Small
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.holdout import Holdout, quarter_of
from loyalbell.core.results.lift import Interval, Numbers, Outcomes, adjusted, any_time
from loyalbell.core.results.verdict import LEAST, LEAST_IN_A_GROUP, PLANNED
from loyalbell.services.application import Application
from loyalbell.services.results.openings import may_be_written_to
from loyalbell.services.results.qualified import drawn_out, purchases_of
from loyalbell.services.results.ranges import Days
from loyalbell.services.settings.channels import HoldoutSettings, loaded

LEAST_DAYS = 28
"""A quarter that has just begun is not counted: most people have not had the time to come at all."""


@dataclass(frozen=True)
class ShopWide:
    """``percent`` who get nothing now. ``orders`` and ``money`` (minor units) are what everything together
    added; ``None`` while there are too few people. ``treated`` and ``held`` are people-quarters.
    """

    percent: int
    treated: int
    held: int
    orders: Interval | None
    money: Interval | None
    first: date | None
    last: date | None

    @property
    def is_certain(self) -> bool:
        return self.orders is not None and (self.orders.low > 0 or self.orders.high < 0)


def shop_wide(application: Application, days: Days) -> ShopWide | None:
    """Of the quarters that began within some days; ``None`` where nobody is left out."""
    holdout = loaded(application, HoldoutSettings).holdout
    if holdout.since is None:
        return None
    snapshot, hour = application.snapshot(), int(application.clock.now().timestamp()) // 3_600
    return application.cache.of_version(
        "shop-wide",
        snapshot.version,
        (hour, days, holdout.percent, tuple(sorted(holdout.fixed.items()))),
        lambda: _worked_out(application, snapshot, holdout, days),
        12,
    )


def _worked_out(
    application: Application, snapshot: HistorySnapshot, holdout: Holdout, days: Days
) -> ShopWide | None:
    now, zone = application.clock.now(), days.zone
    today = local_day(now, zone)
    purchases = purchases_of(application)
    rows: list[tuple[bool, Numbers, Numbers, Numbers, Numbers]] = []
    counted = []
    for begins, ends in holdout.quarters(today):
        ends = min(ends, today - timedelta(days=1))
        if not days.first <= begins <= days.last or (ends - begins).days + 1 < LEAST_DAYS:
            continue
        counted.append((begins, ends))
        low = int(start_of_day(begins, zone).timestamp())
        high = int(start_of_day(ends + timedelta(days=1), zone).timestamp())
        who = np.flatnonzero(may_be_written_to(snapshot, low, 0)).astype(np.int32)
        out = drawn_out(application, holdout, quarter_of(begins))[who]
        since, until, before = _filled(who, low), _filled(who, high), _filled(who, 2 * low - high)
        orders, money = purchases.between(who, since, until)
        had, spent = purchases.between(who, before, since)
        for held in (False, True):
            mine = out == held
            rows.append((held, *(one[mine].astype(float) for one in (orders, money, had, spent))))
    treated, held_out = (_together(rows, held) for held in (False, True))
    if treated is None or held_out is None:
        return ShopWide(holdout.share(quarter_of(today)), 0, 0, None, None, None, None)
    sizes = len(treated[0]), len(held_out[0])
    enough = min(sizes) >= LEAST_IN_A_GROUP and sum(sizes) >= LEAST
    return ShopWide(
        holdout.share(quarter_of(today)),
        *sizes,
        any_time(*adjusted(treated[0], held_out[0]), PLANNED).times(sizes[0]) if enough else None,
        any_time(*adjusted(treated[1], held_out[1]), PLANNED).times(sizes[0]) if enough else None,
        min(begins for begins, _ in counted),
        max(ends for _, ends in counted),
    )


def _filled(who: Small, at: int) -> Ints:
    return np.full(len(who), at, dtype=np.int64)


def _together(
    rows: list[tuple[bool, Numbers, Numbers, Numbers, Numbers]], held: bool
) -> tuple[Outcomes, Outcomes] | None:
    """Orders and money of one group over all quarters, with what was known before."""
    mine = [row[1:] for row in rows if row[0] == held]
    if not mine:
        return None
    orders, money, had, spent = (np.concatenate([row[at] for row in mine]) for at in range(4))
    return Outcomes.of(orders, had), Outcomes.of(money, spent)
