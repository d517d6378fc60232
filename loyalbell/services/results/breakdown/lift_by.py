"""What one campaign or sequence added month by month, and among the people of each segment."""

from dataclasses import dataclass
from datetime import date

import numpy as np
from sqlalchemy import select

from loyalbell.core.clock.local_time import start_of_day
from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.results.came_back import Compared
from loyalbell.core.results.lift import ALPHA
from loyalbell.core.results.verdict import LEAST, LEAST_IN_A_GROUP, Judged, judge
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import RuleProblem
from loyalbell.services.application import Application
from loyalbell.services.results.overview import ResultRow, compared_of
from loyalbell.services.results.ranges import Days
from loyalbell.services.segments.queries import saved_rules
from loyalbell.storage.schema import Segment

MOST_SEGMENTS, MOST_MONTHS = 12, 24


@dataclass(frozen=True)
class LiftPart:
    """Who qualified in a month, or was in a segment then; ``judged`` allows for all parts looked at."""

    name: str
    treated: int
    held: int
    treated_share: float
    held_share: float
    judged: Judged


def by_month(application: Application, row: ResultRow, days: Days) -> list[LiftPart]:
    """By the month in which people qualified, in the shop's own time; months in which one of the groups
    has fewer than twenty people are left out.
    """
    compared = compared_of(application, row, days)
    months = _months(compared, days)
    there = np.unique(months)[-MOST_MONTHS:].tolist()
    kept = [month for month in there if _smaller_group(compared, months == month) >= LEAST_IN_A_GROUP]
    return [_part(f"{_first_day(month):%B %Y}", compared, months == month, len(kept), row) for month in kept]


def by_segment(application: Application, row: ResultRow, days: Days) -> list[LiftPart]:
    """Among the people of each saved segment, the largest first; kept while the book and the hour stand.

    Whoever was in it as the month began in which they qualified: who is in it now may be there because of the
    messages, and the groups would no longer be alike.
    """
    hour = int(application.clock.now().timestamp()) // 3_600
    return application.cache.of_version(
        "lift by segment",
        application.snapshot().version,
        (hour, days, row.origin, row.judged.worth),
        lambda: _by_segment(application, row, days),
        12,
    )


def _by_segment(application: Application, row: ResultRow, days: Days) -> list[LiftPart]:
    compared = compared_of(application, row, days)
    months = _months(compared, days)
    snapshot = application.snapshot()
    with application.database.reading() as session:
        rules = saved_rules(session)
        names = dict(session.execute(select(Segment.id, Segment.name)).all())
    parts = []
    for number, rule in rules.items():
        mask = np.zeros(len(months), dtype=np.bool_)
        try:
            for month in np.unique(months).tolist():
                began = start_of_day(_first_day(month), days.zone)
                here = months == month
                mask[here] = evaluate(rule, snapshot, began, rules)[compared.who.person[here]]
        except RuleProblem:
            continue
        if mask.sum() >= LEAST and _smaller_group(compared, mask) >= LEAST_IN_A_GROUP:
            parts.append((names[number], mask))
    parts.sort(key=lambda part: (-int(part[1].sum()), part[0]))
    kept = parts[:MOST_SEGMENTS]
    return [_part(name, compared, mask, len(kept), row) for name, mask in kept]


def _months(compared: Compared, days: Days) -> Ints:
    """By row the month in which its person qualified, counted from the year 0."""
    zone = zone_of(days.zone)
    local, place = np.unique([zone.day(at) for at in compared.who.at.tolist()], return_inverse=True)
    months = [day_of(int(day)).year * 12 + day_of(int(day)).month - 1 for day in local]
    return np.array(months, dtype=np.int64)[place]


def _first_day(month: int) -> date:
    return date(month // 12, month % 12 + 1, 1)


def _smaller_group(compared: Compared, mask: Mask) -> int:
    held = int(compared.who.is_held[mask].sum())
    return min(held, int(mask.sum()) - held)


def _part(
    name: str,
    compared: Compared,
    mask: Mask,
    looked_at: int,
    row: ResultRow,
) -> LiftPart:
    """The error of all parts together is kept within 5 % (Bonferroni): of twenty looks one would be wrong."""
    treated = compared.of(mask & ~compared.who.is_held)
    held = compared.of(mask & compared.who.is_held)
    judged = judge(treated, held, row.judged.worth, alpha=ALPHA / looked_at)
    return LiftPart(name, len(treated), len(held), treated.mean, held.mean, judged)
