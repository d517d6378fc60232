"""Contact limits and quiet hours for campaigns, asked when their messages fall due.

Sequences ask them in their own step.
"""

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.send_windows import AT_ONCE, opens
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy.delivery_state import LEFT_US, PLANNED, WITHHELD
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.core.policy.send_policy import next_allowed
from loyalbell.services.application import Application
from loyalbell.services.delivery.outbox import become
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.settings.quiet_hours import quiet_of
from loyalbell.storage.schema import Delivery, Message, MessageVersion, Person, Shop

PATIENCE = timedelta(days=3)
MANY = 5_000
REMEMBERED = timedelta(days=366)


def within_limits(
    session: Session, shop: Shop, deliveries: Sequence[Delivery], now: datetime
) -> list[Delivery]:
    """Those that may go now.

    Others of campaigns are put off to the first moment that fits, or withheld after three days.
    """
    care = CareSettings.load(session)
    mine = [one for one in deliveries if one.origin_kind == CAMPAIGN]
    service = _service(session, {one.message_version_id for one in mine})
    mine = [one for one in mine if one.message_version_id not in service]
    if not mine:
        return list(deliveries)
    quiet = quiet_of(care, shop, (now.year, now.year + 1))
    people = {
        one.id: one
        for one in session.scalars(select(Person).where(Person.id.in_([t.person_id for t in mine])))
    }
    sent, kept, second = _sent(session, list(people), now), set[int](), int(now.timestamp())
    for delivery in mine:
        times = sent.setdefault(delivery.person_id, [])
        zone = zone_of(people[delivery.person_id].zone or shop.zone)
        at = opens(next_allowed(times, care.limits, second), AT_ONCE, quiet, zone)
        if at == second:
            times.append(second)
            continue
        kept.add(delivery.id)
        if at is None or at > delivery.due_at.timestamp() + PATIENCE.total_seconds():
            become(delivery, WITHHELD, cause="contact limit")
        else:
            delivery.due_at = datetime.fromtimestamp(at, UTC)
    return [one for one in deliveries if one.id not in kept]


def _service(session: Session, versions: set[int]) -> set[int]:
    query = (
        select(MessageVersion.id)
        .join(Message)
        .where(MessageVersion.id.in_(versions), Message.purpose == "service")
    )
    return set(session.scalars(query))


def _sent(session: Session, people: list[int], now: datetime) -> dict[int, list[int]]:
    """By person id when marketing messages left for them, or a sequence is about to send one.

    Ascending, none ahead.
    """
    when = func.coalesce(Delivery.sent_at, Delivery.handed_at, Delivery.due_at)
    query = (
        select(Delivery.person_id, when)
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(
            Delivery.person_id.in_(people),
            Delivery.state.in_(LEFT_US) | ((Delivery.state == PLANNED) & (Delivery.origin_kind == SEQUENCE)),
            when > now - REMEMBERED,
            Message.purpose == "marketing",
        )
        .order_by(when)
    )
    found: dict[int, list[int]] = {}
    for person, at in session.execute(query):
        found.setdefault(person, []).append(min(int(at.timestamp()), int(now.timestamp())))
    return found


def in_quiet_hours(session: Session, shop: Shop, person_ids: Sequence[int], now: datetime) -> int:
    """How many of them would have to wait for their morning if something were sent now."""
    care = CareSettings.load(session)
    quiet = quiet_of(care, shop, (now.year, now.year + 1))
    zones: Counter[str] = Counter()
    for start in range(0, len(person_ids), MANY):
        some = person_ids[start : start + MANY]
        query = select(Person.zone, func.count()).where(Person.id.in_(some)).group_by(Person.zone)
        for zone, count in session.execute(query):
            zones[zone or shop.zone] += count
    at = int(now.timestamp())
    return sum(count for zone, count in zones.items() if opens(at, AT_ONCE, quiet, zone_of(zone)) != at)


def would_wait(application: Application, person_ids: Sequence[int], at: datetime) -> int:
    """How many of them would have to wait for their morning if something were sent at an instant."""
    with application.database.reading() as session:
        return in_quiet_hours(session, session.get_one(Shop, 1), person_ids, at)
