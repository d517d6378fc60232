"""One campaign or sequence by channel, weekday and hour of sending and by language, and what was ordered."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.zones import DAY, zone_of
from loyalbell.core.history.columns import Ints, Small
from loyalbell.core.history.snapshot import Deliveries, HistorySnapshot
from loyalbell.core.policy.delivery_state import SENT
from loyalbell.core.policy.origins import Origin
from loyalbell.services.application import Application
from loyalbell.services.results.breakdown.by_section import by_section
from loyalbell.services.results.breakdown.part import Part
from loyalbell.services.results.by_a_person import did
from loyalbell.services.results.credits import Credits, credits_from, of_deliveries
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, DeliveryEvent, Department, Item

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
QUARTER = 900
"""No time zone changes its offset within a quarter of an hour."""
MOST_LINES = 8


@dataclass(frozen=True)
class OrderedPart:
    """What was ordered after these messages: ``orders`` with such a line, and its ``money`` (minor units)."""

    name: str
    orders: int
    money: int


def breakdown(application: Application, origin: Origin, days: Days) -> dict[str, list[Part]]:
    """By what is told apart; only where there are at least two parts. Hours and weekdays are of the shop.

    Kept while the book and the hour stand.
    """
    return application.cache.of_version(
        "told apart",
        application.snapshot().version,
        (int(application.clock.now().timestamp()) // 3_600, origin, days),
        lambda: _breakdown(application, origin, days),
        24,
    )


def _breakdown(application: Application, origin: Origin, days: Days) -> dict[str, list[Part]]:
    snapshot, credited = application.snapshot(), credits_from(application, origin, days)
    mine = delivered_of(snapshot, origin, days)
    clicks = snapshot.engagements.delivery[snapshot.engagements.kind == snapshot.words.get("clicked", -1)]
    pressed = np.isin(mine.key, clicks).astype(np.int64)
    orders = np.bincount(np.searchsorted(mine.key, credited.delivery), minlength=len(mine)).astype(np.int64)
    weekday, hour = _local(mine.at, days.zone)
    parts = {
        "Channel": _parts(mine.channel, CHANNELS, pressed, orders),
        "Weekday": _parts(weekday, WEEKDAYS, pressed, orders, in_order=True),
        "Hour": _parts(hour, [f"{at}:00" for at in range(24)], pressed, orders, in_order=True),
    }
    with application.database.reading() as session:
        parts["Language"] = _by_language(session, origin, days, credited)
        parts["Section shown"] = by_section(session, application.the_shop(), mine, pressed, orders)
    return {name: rows for name, rows in parts.items() if len(rows) > 1}


def delivered_of(snapshot: HistorySnapshot, origin: Origin, days: Days) -> Deliveries:
    """What one of them sent in some days and nobody sent back, in the order of their numbers."""
    rows = snapshot.deliveries.taken(snapshot.deliveries.span(days.low, days.high))
    mine = rows.taken((rows.origin == snapshot.words.get(origin[0], -1)) & (rows.origin_id == origin[1]))
    return mine.taken(np.argsort(mine.key))


def _local(at: Ints, zone_name: str) -> tuple[Ints, Ints]:
    """Weekday (0: Monday) and hour of each instant, in a time zone."""
    zone = zone_of(zone_name)
    quarters, place = np.unique(at // QUARTER, return_inverse=True)
    local = np.array([zone.local(int(one) * QUARTER) for one in quarters], dtype=np.int64).reshape(-1, 2)
    # day 0 of the epoch, 1 January 1970, was a Thursday
    return ((local[:, 0] + 3) % 7)[place], (local[:, 1] * 24 // DAY)[place]


def _parts(
    codes: Ints | Small, names: Sequence[str], clicked: Ints, orders: Ints, in_order: bool = False
) -> list[Part]:
    """In the order of ``names``, else the largest first."""
    found = [
        Part(names[code], int(here.sum()), int(clicked[here].sum()), int(orders[here].sum()))
        for code in np.unique(codes).tolist()
        for here in (codes == code,)
    ]
    return found if in_order else sorted(found, key=lambda part: -part.delivered)


def _by_language(session: Session, origin: Origin, days: Days, credited: Credits) -> list[Part]:
    within = (
        (Delivery.origin_kind == origin[0])
        & (Delivery.origin_id == origin[1])
        & (Delivery.state == SENT)
        & Delivery.sent_at.between(*days.instants)
    )
    sent = select(Delivery.language, func.count()).where(within).group_by(Delivery.language)
    clicked = (
        select(Delivery.language, func.count(Delivery.id.distinct()))
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(within, did("clicked"))
        .group_by(Delivery.language)
    )
    pressed = dict(session.execute(clicked).all())
    written_in = of_deliveries(session, Delivery.language, credited.delivery)
    of_orders = Counter(written_in[delivery] for delivery in credited.delivery.tolist())
    found = [
        Part(language or "the first", count, pressed.get(language, 0), of_orders[language])
        for language, count in session.execute(sent)
    ]
    return sorted(found, key=lambda part: -part.delivered)


def ordered(application: Application, origin: Origin, days: Days) -> dict[str, list[OrderedPart]]:
    """What the orders were of that are put down to its messages, by department and by item."""
    snapshot = application.snapshot()
    lines = snapshot.lines
    mine = np.isin(lines.key, credits_from(application, origin, days).order)
    with application.database.reading() as session:
        departments = dict(session.execute(select(Department.id, Department.name)).all())
        items = dict(session.execute(select(Item.id, Item.name)).all())
    here = lines.taken(mine)
    found = {
        "Department": _ordered_parts(here.department, here.key, here.money, departments),
        "Item": _ordered_parts(here.item, here.key, here.money, items),
    }
    return {name: rows for name, rows in found.items() if rows}


def _ordered_parts(codes: Small, orders: Ints, money: Ints, names: dict[int, str]) -> list[OrderedPart]:
    found = [
        OrderedPart(names[code], len(np.unique(orders[here])), int(money[here].sum()))
        for code in np.unique(codes).tolist()
        if code in names
        for here in (codes == code,)
    ]
    return sorted(found, key=lambda part: (-part.orders, part.name))[:MOST_LINES]
