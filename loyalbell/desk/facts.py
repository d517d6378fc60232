"""What is known of people for the fields of a message, read in one go for a batch."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.mail import one_line
from loyalbell.core.timing import local_day, whole_days_between
from loyalbell.store.tables import Companion, Order, Person, Shop


def field_facts(
    session: Session, people: Sequence[Person], shop: Shop, now: datetime
) -> dict[int, dict[str, object]]:
    """Facts by person id; what is not on file is left out, so that fallbacks take its place."""
    ids = [person.id for person in people]
    last = dict(
        session.execute(
            select(Order.person_id, func.max(Order.placed_at))
            .where(Order.person_id.in_(ids), Order.cancelled_at.is_(None), Order.placed_at <= now)
            .group_by(Order.person_id)
        ).all()
    )
    companions = dict(
        session.execute(
            select(Companion.person_id, Companion.name)
            .where(Companion.person_id.in_(ids))
            .order_by(Companion.id.desc())
        ).all()
    )
    return {
        person.id: _facts(person, shop, last.get(person.id), companions.get(person.id), now)
        for person in people
    }


def _facts(
    person: Person, shop: Shop, last_order: datetime | None, companion: str | None, now: datetime
) -> dict[str, object]:
    facts: dict[str, object | None] = {
        "first_name": person.first_name,
        "last_name": person.last_name,
        "companion_name": companion,
        "shop_name": shop.name,
    }
    if last_order is not None:
        day = local_day(last_order, shop.zone)
        facts["last_order_on"] = f"{day.day} {day:%B}"
        facts["days_since_order"] = whole_days_between(last_order, now, shop.zone)
    clean = {name: one_line(value) if isinstance(value, str) else value for name, value in facts.items()}
    return {name: value for name, value in clean.items() if value not in (None, "")}
