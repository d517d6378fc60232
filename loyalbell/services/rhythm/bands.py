"""The bands of a part of the shop: people and money in each now, and who went from one to another by
month.
"""

from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import Ints, Small
from loyalbell.core.rhythm.bands import BANDS, rhythms
from loyalbell.services.rhythm.figures import MONTHS_BACK, YEAR, Looking, gap_of


def bands(looking: Looking, months: int = MONTHS_BACK) -> dict[str, Any]:
    """People and their money of the last 365 days in each band, and how many went from one to another by
    month.
    """
    snapshot, as_of, gap = looking.snapshot, looking.as_of, gap_of(looking)
    now = rhythms(snapshot, as_of, gap, looking.part).band
    here = snapshot.on_file(as_of)
    rows = snapshot.orders.span(as_of - YEAR, as_of)
    kept = snapshot.orders.counted(rows, as_of)
    money = snapshot.per_person(
        snapshot.orders.person[rows][kept], snapshot.orders.net_money(rows, as_of)[kept]
    )
    return {
        "typical_days": gap,
        "bands": [
            {
                "band": name,
                "people": int((here & (now == at)).sum()),
                "money": int(money[here & (now == at)].sum()),
            }
            for at, name in enumerate(BANDS)
        ],
        "never_bought": int((here & (now < 0)).sum()),
        "movement": movement(looking, gap, months),
    }


def month_edges(looking: Looking, months: int) -> list[int]:
    """The last seconds of the ``months`` months before, the oldest first, and the instant looked at."""
    zone = looking.snapshot.zone
    day = local_day(datetime.fromtimestamp(looking.as_of, ZoneInfo("UTC")), zone).replace(day=1)
    edges = [looking.as_of]
    for _ in range(months):
        edges.append(int(start_of_day(day, zone).timestamp()) - 1)
        day = (day - timedelta(days=1)).replace(day=1)
    return edges[::-1]


def movement(looking: Looking, gap: float, months: int) -> list[dict[str, Any]]:
    """For each month who went where: ``people`` is bands (then, from) x bands (now, to), by their place in
    the list.
    """
    if not months:
        return []
    snapshot, edges = looking.snapshot, month_edges(looking, months)
    states = [_band_at(looking, gap, edge) for edge in edges]
    found = []
    for before, after, edge in zip(states, states[1:], edges[1:], strict=False):
        both = (before >= 0) & (after >= 0)
        table = np.zeros((len(BANDS), len(BANDS)), dtype=np.int64)
        np.add.at(table, (before[both], after[both]), 1)
        sizes = [int((after == at).sum()) for at in range(len(BANDS))]
        found.append({"month": month_of(edge, snapshot.zone), "people": table.tolist(), "sizes": sizes})
    return found


def month_of(edge: int, zone: str) -> str:
    """The local month, such as 2026-05, that an instant lies in."""
    return f"{local_day(datetime.fromtimestamp(edge, ZoneInfo('UTC')), zone):%Y-%m}"


def _band_at(looking: Looking, gap: float, edge: int) -> Small:
    """Everybody's band at an instant, -1 for who never bought or was not on file."""
    found: Small = np.where(
        looking.snapshot.on_file(edge), rhythms(looking.snapshot, edge, gap, looking.part).band, -1
    )
    return found


def who_went(looking: Looking, month: str, then: str, now: str) -> Ints | None:
    """Numbers of those who were in one band when a month began and in another when it ended, or now.

    ``None`` where there is no such month or band.
    """
    if then not in BANDS or now not in BANDS:
        return None
    edges, gap = month_edges(looking, MONTHS_BACK), gap_of(looking)
    for before, after in pairwise(edges):
        if month_of(after, looking.snapshot.zone) == month:
            was = _band_at(looking, gap, before) == BANDS.index(then)
            return np.flatnonzero(was & (_band_at(looking, gap, after) == BANDS.index(now)))
    return None
