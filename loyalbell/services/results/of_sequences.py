"""What each sequence did in the last 30 days, for their list."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.services.application import Application
from loyalbell.services.results.credits import credits_of

DAYS = 30


@dataclass(frozen=True)
class LastDays:
    """``sent``: messages of the last 30 local days, today included, by day. ``brought_back``: people who
    ordered in them, put down to one of its messages.
    """

    by_day: tuple[int, ...]
    brought_back: int

    @property
    def sent(self) -> int:
        return sum(self.by_day)


NOTHING = LastDays((0,) * DAYS, 0)


def last_days(application: Application) -> Mapping[int, LastDays]:
    """By sequence; those that sent nothing are left out. Kept while the book and the hour stay the same."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    return application.cache.of_version(
        "sequences of the last days", snapshot.version, now // 3_600, lambda: _last_days(application, now), 2
    )


def _last_days(application: Application, now: int) -> dict[int, LastDays]:
    snapshot = application.snapshot()
    zone, code = zone_of(snapshot.zone), snapshot.words.get(SEQUENCE, -1)
    today = zone.day(now)
    start = zone.instant(today - DAYS + 1, 0)
    every = snapshot.deliveries
    recent = every.taken(every.span(start, now))
    recent = recent.taken(recent.origin == code)
    edges = np.array([zone.instant(today - DAYS + 1 + day, 0) for day in range(DAYS)])
    day = np.searchsorted(edges, recent.at, side="right") - 1
    credited = credits_of(application)
    lately = credited.at >= start
    people, deliveries = credited.person[lately], credited.delivery[lately]
    ours = every.taken(every.origin == code)
    order = np.argsort(ours.key, kind="stable")
    place = np.minimum(np.searchsorted(ours.key, deliveries, sorter=order), max(len(ours) - 1, 0))
    known = (ours.key[order][place] == deliveries) if len(ours) else np.zeros(len(deliveries), np.bool_)
    of_sequence = ours.origin_id[order][place[known]] if len(ours) else np.zeros(0, np.int64)
    back = np.unique(np.stack([of_sequence, people[known]]), axis=1)[0] if len(of_sequence) else []
    found = {}
    for sequence in np.unique(np.concatenate([recent.origin_id, back])).tolist():
        counts = np.bincount(day[recent.origin_id == sequence], minlength=DAYS)
        found[int(sequence)] = LastDays(tuple(counts.tolist()), int(np.sum(np.array(back) == sequence)))
    return found
