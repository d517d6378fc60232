"""The rhythm of the shop and of a person, as the pages ask for it."""

from collections.abc import Sequence
from datetime import date, datetime, timedelta

import numpy as np

from loyalbell.core.ledger import Ledger
from loyalbell.core.rhythm.bands import PersonalRhythm, personal_rhythm
from loyalbell.core.rhythm.repeat import buying_days, typical_gap
from loyalbell.core.visits import day_of_number, today_number
from loyalbell.desk.desk import Desk

FALLBACK_GAP = 60.0
_kept: dict[tuple[str, int, int], float] = {}


def shop_gap(desk: Desk, ledger: Ledger, as_of: datetime) -> float:
    """The shop's typical gap in days, worked out once for each state of the book and day."""
    today = today_number(int(as_of.timestamp()), ledger.zone)
    key = (str(desk.data), ledger.version, today)
    if key not in _kept:
        if len(_kept) > 64:
            _kept.clear()
        _kept[key] = float(typical_gap(ledger, int(as_of.timestamp())) or FALLBACK_GAP)
    return _kept[key]


def rhythms_of(desk: Desk, person_ids: Sequence[int]) -> dict[int, PersonalRhythm]:
    """The rhythm of each of these people who ever bought."""
    now, ledger = desk.clock.now(), desk.ledger()
    as_of, shop = int(now.timestamp()), shop_gap(desk, ledger, now)
    wanted = np.array(sorted(person_ids), dtype=np.int64)
    numbers = ledger.number_of(wanted)
    orders = ledger.orders
    theirs = ledger.orders.taken(np.isin(orders.person, numbers))
    bought = buying_days(Ledger(ledger.zone, ledger.currency, ledger.people, theirs), as_of)
    today, found = today_number(as_of, ledger.zone), {}
    for person_id, number in zip(wanted.tolist(), numbers.tolist(), strict=True):
        rhythm = personal_rhythm(bought.day[bought.person == number].tolist(), today, shop)
        if rhythm is not None:
            found[person_id] = rhythm
    return found


def next_day(desk: Desk, rhythm: PersonalRhythm) -> date:
    """The local day on which the next visit is expected."""
    today = today_number(int(desk.clock.now().timestamp()), desk.the_shop().zone)
    return day_of_number(today) + timedelta(days=rhythm.next_in)
