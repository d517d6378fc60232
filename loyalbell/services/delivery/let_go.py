"""Letting messages go that stood for a while: released, resumed, sent again by a person's word."""

from collections.abc import Iterable
from datetime import datetime

from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import PLANNED, UNSURE
from loyalbell.services.delivery.outbox import become
from loyalbell.services.delivery.perhaps_gone import is_in_doubt, until_of
from loyalbell.services.delivery.timing import ends_of_their_day
from loyalbell.storage.schema import Delivery, Shop

MANY = 500
"""At once: each asks the database about people by their numbers."""


def let_go(session: Session, deliveries: Iterable[Delivery], now: datetime, **facts: object) -> None:
    """Plans them anew from now on, with the ``facts`` besides; everything is asked once more as they leave.

    What was meant for a day (a birthday) keeps its time, so that it never leaves after that day.
    """
    shop = session.get_one(Shop, 1)
    letting, until = list(deliveries), until_of(session)
    for start in range(0, len(letting), MANY):
        some = letting[start : start + MANY]
        ends = ends_of_their_day(session, shop, some)
        for delivery in some:
            if delivery.state is not UNSURE and is_in_doubt(delivery, until):
                # held or given up before a restore: the lost book may have let it go, so it is asked about
                become(delivery, PLANNED, **facts)
                continue
            due = due_again(delivery.first_due_at or delivery.due_at, ends.get(delivery.id), now)
            become(delivery, PLANNED, due_at=due, first_due_at=None, decided_at=now, **facts)


def due_again(first: datetime, end_of_its_day: datetime | None, now: datetime) -> datetime:
    """When something is due that stood since ``first`` and may go on now."""
    return first if end_of_its_day is not None and first < end_of_its_day else now
