"""The rhythm of the shop and of a person, as the pages ask for it."""

from collections.abc import Sequence
from datetime import date, datetime, timedelta

import numpy as np

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import day_of_number, today_number
from loyalbell.core.rhythm.bands import PersonalRhythm, personal_rhythm
from loyalbell.core.rhythm.return_curve import buying_days, typical_gap
from loyalbell.services.application import Application

FALLBACK_GAP = 60.0


def shop_gap(application: Application, snapshot: HistorySnapshot, as_of: datetime) -> float:
    """The shop's typical gap in days, worked out once for each state of the book and day."""
    today = today_number(int(as_of.timestamp()), snapshot.zone)
    return application.cache.of_version(
        "typical gap",
        snapshot.version,
        today,
        lambda: float(typical_gap(snapshot, int(as_of.timestamp())) or FALLBACK_GAP),
    )


def rhythms_of(application: Application, person_ids: Sequence[int]) -> dict[int, PersonalRhythm]:
    """The rhythm of each of these people who ever bought."""
    now, snapshot = application.clock.now(), application.snapshot()
    as_of, shop = int(now.timestamp()), shop_gap(application, snapshot, now)
    wanted = np.array(sorted(person_ids), dtype=np.int64)
    numbers = snapshot.number_of(wanted)
    orders = snapshot.orders
    theirs = snapshot.orders.taken(np.isin(orders.person, numbers))
    bought = buying_days(HistorySnapshot(snapshot.zone, snapshot.currency, snapshot.people, theirs), as_of)
    today, found = today_number(as_of, snapshot.zone), {}
    for person_id, number in zip(wanted.tolist(), numbers.tolist(), strict=True):
        rhythm = personal_rhythm(bought.day[bought.person == number].tolist(), today, shop)
        if rhythm is not None:
            found[person_id] = rhythm
    return found


def next_day(application: Application, rhythm: PersonalRhythm) -> date:
    """The local day on which the next visit is expected."""
    today = today_number(int(application.clock.now().timestamp()), application.the_shop().zone)
    return day_of_number(today) + timedelta(days=rhythm.next_in)
