"""What comes back: refusals for good stop an address at once, three others in different weeks stop it too."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.policy.delivery_state import BOUNCED, SENT
from loyalbell.services.application import Application
from loyalbell.services.delivery.outbox import become
from loyalbell.storage.schema import Delivery, DeliveryEvent, Shop, Suppression
from loyalbell.storage.webhook_events import announce

HARD_BOUNCE, SOFT_BOUNCES, COMPLAINT = "hard bounce", "three soft bounces", "complaint"
SOFT_WEEKS, SOFT_SPAN = 3, timedelta(days=180)


def bounced(session: Session, delivery: Delivery, now: datetime, hard: bool, words: str) -> None:
    """Writes a delivery down as bounced, and suppresses the address where that is due."""
    sent_at = delivery.sent_at or now
    become(delivery, BOUNCED, cause="not accepted", detail=words[:500], sent_at=sent_at)
    event = DeliveryEvent(
        delivery_id=delivery.id, kind="hard bounce" if hard else "soft bounce", at=now, detail=words[:500]
    )
    session.add(event)
    session.flush()
    announce(
        session,
        "message.bounced",
        now,
        person=delivery.person_id,
        channel=delivery.channel,
        touch=delivery.id,
    )
    if hard:
        suppress(session, delivery, HARD_BOUNCE, now)
    elif _soft_weeks(session, delivery, now) >= SOFT_WEEKS:
        suppress(session, delivery, SOFT_BOUNCES, now)


def _soft_weeks(session: Session, delivery: Delivery, now: datetime) -> int:
    """In how many different weeks of the last half year this address took nothing."""
    zone = session.get_one(Shop, 1).zone
    query = (
        select(DeliveryEvent.at)
        .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
        .where(
            Delivery.address == delivery.address,
            Delivery.channel == delivery.channel,
            DeliveryEvent.kind == "soft bounce",
            DeliveryEvent.at > now - SOFT_SPAN,
        )
    )
    return len({local_day(at, zone).isocalendar()[:2] for at in session.scalars(query)})


def suppress(session: Session, delivery: Delivery, reason: str, now: datetime) -> None:
    """Once an address and reason."""
    there = session.scalar(
        select(Suppression.id).where(
            Suppression.channel == delivery.channel,
            Suppression.address == (delivery.address or ""),
            Suppression.reason == reason,
            Suppression.lifted_at.is_(None),
        )
    )
    if there is None:
        session.add(
            Suppression(
                person_id=delivery.person_id,
                channel=delivery.channel,
                address=delivery.address or "",
                reason=reason,
                at=now,
            )
        )


class Answered(NamedTuple):
    """A message that the network answered within the past day; ``said`` is empty where it took it."""

    address: str
    said: str


def lately(session: Session, channel: str, besides: Sequence[int], now: datetime) -> list[Answered]:
    """What the network answered on a channel in the past day, besides these deliveries."""
    query = select(Delivery.address, Delivery.state, Delivery.detail).where(
        Delivery.channel == channel,
        Delivery.state.in_((SENT, BOUNCED)),
        Delivery.handed_at > now - timedelta(days=1),
        Delivery.id.not_in(besides),
    )
    return [
        Answered(address or "", (detail or "") if state == BOUNCED else "")
        for address, state, detail in session.execute(query)
    ]


def unmark(session: Session, refused: Sequence[Answered], now: datetime) -> None:
    """Lifts what these refusals did to their addresses: they turned out to be about us."""
    addresses = [one.address for one in refused if one.said]
    session.execute(
        update(Suppression)
        .where(
            Suppression.address.in_(addresses),
            Suppression.reason == HARD_BOUNCE,
            Suppression.at > now - timedelta(days=1),
            Suppression.lifted_at.is_(None),
        )
        .values(lifted_at=now)
    )


def lift_wrong_mark(session: Session, delivery: Delivery, now: datetime) -> None:
    """Its network said that the address was gone, and then that a message has arrived there."""
    handed = delivery.handed_at or delivery.due_at
    session.execute(
        update(Suppression)
        .where(
            Suppression.channel == delivery.channel,
            Suppression.address == (delivery.address or ""),
            Suppression.reason.in_((HARD_BOUNCE, SOFT_BOUNCES)),
            Suppression.at <= max(handed, delivery.sent_at or handed) + timedelta(days=1),
            Suppression.lifted_at.is_(None),
        )
        .values(lifted_at=now)
    )


def complained(application: Application, session: Session, delivery: Delivery) -> None:
    """A complaint ends email to this address at once."""
    now = application.clock.now()
    event = DeliveryEvent(delivery_id=delivery.id, kind="complained", at=now)
    session.add(event)
    session.flush()
    suppress(session, delivery, COMPLAINT, now)
