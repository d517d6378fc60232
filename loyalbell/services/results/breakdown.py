"""One campaign or sequence by channel, weekday and hour of sending, and by language."""

from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from sqlalchemy import select

from loyalbell.core.policy.delivery_state import SENT
from loyalbell.services.application import Application
from loyalbell.services.results.origins import Origin, credits_of
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, DeliveryEvent

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
FEWEST = 20
"""Below so many messages a share says nothing (a decision of ours)."""


@dataclass(frozen=True)
class Part:
    """Messages of one kind: how many were delivered, clicked, and led to orders."""

    name: str
    delivered: int
    clicked: int
    orders: int

    @property
    def clicked_share(self) -> float | None:
        return self.clicked / self.delivered if self.delivered >= FEWEST else None


def breakdown(application: Application, origin: Origin, days: Days) -> dict[str, list[Part]]:
    """By what is told apart; only where there are at least two parts. Hours and weekdays are of the shop."""
    with application.database.reading() as session:
        rows = session.execute(
            select(Delivery.id, Delivery.channel, Delivery.sent_at, Delivery.language).where(
                Delivery.origin_kind == origin[0],
                Delivery.origin_id == origin[1],
                Delivery.state == SENT,
                Delivery.sent_at.between(*days.instants),
            )
        ).all()
        clicked = set(
            session.scalars(
                select(DeliveryEvent.delivery_id)
                .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
                .where(
                    Delivery.origin_kind == origin[0],
                    Delivery.origin_id == origin[1],
                    DeliveryEvent.kind == "clicked",
                )
            )
        )
    ids = np.array([row[0] for row in rows], dtype=np.int64)
    orders: dict[int, int] = {}
    for delivery in credits_of(application).of_deliveries(ids).delivery.tolist():
        orders[delivery] = orders.get(delivery, 0) + 1
    zone = ZoneInfo(days.zone)
    keys: dict[str, list[str]] = {"Channel": [], "Weekday": [], "Hour": [], "Language": []}
    for _, channel, sent_at, language in rows:
        local = (sent_at or datetime.fromtimestamp(0, UTC)).astimezone(zone)
        keys["Channel"].append(channel)
        keys["Weekday"].append(WEEKDAYS[local.weekday()])
        keys["Hour"].append(f"{local.hour}:00")
        keys["Language"].append(language or "the first")
    made = {name: _parts(name, ids.tolist(), values, clicked, orders) for name, values in keys.items()}
    return {name: parts for name, parts in made.items() if len(parts) > 1}


def _parts(
    name: str, ids: list[int], values: list[str], clicked: set[int], orders: dict[int, int]
) -> list[Part]:
    """In the order of the week or the day, else the largest first."""
    mine: dict[str, list[int]] = {}
    for delivery, value in zip(ids, values, strict=True):
        mine.setdefault(value, []).append(delivery)
    parts = [
        Part(value, len(some), len(clicked.intersection(some)), sum(orders.get(one, 0) for one in some))
        for value, some in mine.items()
    ]
    if name == "Weekday":
        return sorted(parts, key=lambda part: WEEKDAYS.index(part.name))
    if name == "Hour":
        return sorted(parts, key=lambda part: int(part.name.partition(":")[0]))
    return sorted(parts, key=lambda part: -part.delivered)
