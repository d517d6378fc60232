"""What is known of people for the fields of a message, read in one go for a batch.

Only what the message asks.
"""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day, whole_days_between
from loyalbell.core.messages.merge_fields import OWN
from loyalbell.core.messages.mime import one_line
from loyalbell.core.messages.spoken_dates import say_date
from loyalbell.services.delivery.composing.facts_at_hand import OWN_NAMES, newest_facts
from loyalbell.services.settings.channels import LinkSettings
from loyalbell.storage.schema import (
    Appointment,
    Companion,
    CustomField,
    FieldValue,
    Item,
    Order,
    OrderLine,
    Person,
    Shop,
    Visit,
)

Found = dict[int, dict[str, object]]
STOP_WORDS = "Reply STOP to end"


@dataclass(frozen=True)
class Batch:
    """Whom it is about. ``ids`` are those of ``people``."""

    session: Session
    people: Sequence[Person]
    ids: Sequence[int]
    shop: Shop
    now: datetime

    def local(self, instant: datetime) -> date:
        return local_day(instant, self.shop.zone)


def field_facts(
    session: Session,
    people: Sequence[Person],
    shop: Shop,
    now: datetime,
    asked: Collection[str] | None = None,
) -> Found:
    """Facts by person id; what is not on file is left out, so that fallbacks take its place.

    ``asked`` are the names that are wanted; all of them where it is ``None``.
    """
    batch = Batch(session, people, [person.id for person in people], shop, now)
    found: Found = {person.id: {} for person in people}
    shared = _of_the_shop(session, shop)
    for names, make in MAKERS:
        if asked is None or any(name in asked or (name == OWN and _own_asked(asked)) for name in names):
            for person_id, facts in make(batch).items():
                found[person_id].update(facts)
    return {person_id: _clean({**shared, **facts}) for person_id, facts in found.items()}


def _own_asked(asked: Collection[str]) -> bool:
    return any(name.startswith(OWN) for name in asked)


def _clean(facts: Mapping[str, object]) -> dict[str, object]:
    said = {name: one_line(value) if isinstance(value, str) else value for name, value in facts.items()}
    return {name: value for name, value in said.items() if value not in (None, "")}


def _of_the_shop(session: Session, shop: Shop) -> dict[str, object]:
    links = LinkSettings.load(session)
    return {
        "shop_name": shop.name,
        "shop_phone": links.phone,
        "shop_address": shop.postal_address,
        "booking_url": links.booking_url,
        "review_url": links.review_url,
        "stop_words": STOP_WORDS,
    }


def _on_file(batch: Batch) -> Found:
    found: Found = {}
    for person in batch.people:
        month, day = person.birthday_month, person.birthday_day
        born = say_date(date(2000, month, day)) if month and day else None
        found[person.id] = {
            "first_name": person.first_name,
            "last_name": person.last_name,
            "city": person.city,
            "birthday": born,
        }
    return found


def _companions(batch: Batch) -> Found:
    query = select(Companion).where(Companion.person_id.in_(batch.ids)).order_by(Companion.id.desc())
    return {
        one.person_id: {"companion_name": one.name, "companion_kind": one.kind}
        for one in batch.session.scalars(query)
    }


def _orders(batch: Batch) -> Found:
    query = (
        select(Order.person_id, func.max(Order.placed_at), func.count())
        .where(Order.person_id.in_(batch.ids), Order.cancelled_at.is_(None), Order.placed_at <= batch.now)
        .group_by(Order.person_id)
    )
    return {
        person_id: {
            "last_order_on": say_date(batch.local(last)),
            "days_since_order": whole_days_between(last, batch.now, batch.shop.zone),
            "order_count": count,
        }
        for person_id, last, count in batch.session.execute(query)
    }


def _visits(batch: Batch) -> Found:
    queries = (
        select(Order.person_id, func.max(Order.placed_at))
        .where(
            Order.person_id.in_(batch.ids),
            Order.in_person,
            Order.cancelled_at.is_(None),
            Order.placed_at <= batch.now,
        )
        .group_by(Order.person_id),
        select(Visit.person_id, func.max(Visit.at))
        .where(Visit.person_id.in_(batch.ids), Visit.at <= batch.now)
        .group_by(Visit.person_id),
        select(Appointment.person_id, func.max(Appointment.starts_at))
        .where(
            Appointment.person_id.in_(batch.ids),
            Appointment.state == "kept",
            Appointment.starts_at <= batch.now,
        )
        .group_by(Appointment.person_id),
    )
    last: dict[int, datetime] = {}
    for query in queries:
        for person_id, at in batch.session.execute(query).all():
            last[person_id] = max(at, last.get(person_id, at))
    return {
        person_id: {
            "last_visit_on": say_date(batch.local(at)),
            "days_since_visit": whole_days_between(at, batch.now, batch.shop.zone),
        }
        for person_id, at in last.items()
    }


def _items(batch: Batch) -> Found:
    query = (
        select(Order.person_id, Item.name, func.count(), func.max(Order.placed_at))
        .join(OrderLine, OrderLine.order_id == Order.id)
        .join(Item, Item.id == OrderLine.item_id)
        .where(Order.person_id.in_(batch.ids), Order.cancelled_at.is_(None), Order.placed_at <= batch.now)
        .group_by(Order.person_id, Item.name)
    )
    found: dict[int, list[tuple[str, int, datetime]]] = {}
    for person_id, name, count, last in batch.session.execute(query):
        found.setdefault(person_id, []).append((name, count, last))
    return {
        person_id: {
            "favourite_item": max(rows, key=lambda row: (row[1], row[2], row[0]))[0],
            "last_item": max(rows, key=lambda row: (row[2], row[1], row[0]))[0],
        }
        for person_id, rows in found.items()
    }


def _newest(kind: str) -> Callable[[Batch], Found]:
    return lambda batch: newest_facts(batch.session, kind, batch.ids, batch.shop, batch.now)


def _own_fields(batch: Batch) -> Found:
    query = (
        select(FieldValue.person_id, FieldValue.field_id, FieldValue.value, CustomField.kind)
        .join(CustomField, CustomField.id == FieldValue.field_id)
        .where(FieldValue.person_id.in_(batch.ids), FieldValue.until.is_(None))
    )
    found: Found = {}
    for person_id, field_id, value, kind in batch.session.execute(query):
        found.setdefault(person_id, {})[f"{OWN}{field_id}"] = say_value(value, kind)
    return found


def say_value(value: Any, kind: str) -> str:
    """A value of the shop's own field, as it reads in a sentence."""
    if kind == "yes or no":
        return "yes" if value else "no"
    if kind == "date" and isinstance(value, str):
        return say_date(date.fromisoformat(value[:10]))
    if isinstance(value, list):
        return ", ".join(str(one) for one in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


MAKERS: tuple[tuple[tuple[str, ...], Callable[[Batch], Found]], ...] = (
    (("first_name", "last_name", "city", "birthday"), _on_file),
    (("companion_name", "companion_kind"), _companions),
    (("last_order_on", "days_since_order", "order_count"), _orders),
    (("last_visit_on", "days_since_visit"), _visits),
    (("favourite_item", "last_item"), _items),
    *((tuple(names), _newest(kind)) for kind, names in OWN_NAMES.items()),
    ((OWN,), _own_fields),
)
