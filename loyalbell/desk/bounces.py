"""What comes back: refusals for good stop an address at once, three others in different weeks stop it too."""

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.timing import local_day
from loyalbell.desk.desk import Desk
from loyalbell.store.happenings import announce
from loyalbell.store.journal import mark_rows, mark_whole
from loyalbell.store.tables import Shop, Suppression, Touch, TouchEvent

HARD_BOUNCE, SOFT_BOUNCES, COMPLAINT = "hard bounce", "three soft bounces", "complaint"
SOFT_WEEKS, SOFT_SPAN = 3, timedelta(days=180)


def bounced(session: Session, touch: Touch, now: datetime, hard: bool, words: str) -> None:
    """Writes a touch down as bounced, and suppresses the address where that is due."""
    touch.state, touch.cause, touch.detail = "bounced", "not accepted", words[:500]
    touch.sent_at = touch.sent_at or now
    event = TouchEvent(
        touch_id=touch.id, kind="hard bounce" if hard else "soft bounce", at=now, detail=words[:500]
    )
    session.add(event)
    session.flush()
    mark_rows(session, "touches", [touch.id])
    mark_rows(session, "responses", [event.id])
    announce(session, "message.bounced", now, person=touch.person_id, channel=touch.channel, touch=touch.id)
    if hard:
        suppress(session, touch, HARD_BOUNCE, now)
    elif _soft_weeks(session, touch, now) >= SOFT_WEEKS:
        suppress(session, touch, SOFT_BOUNCES, now)


def _soft_weeks(session: Session, touch: Touch, now: datetime) -> int:
    """In how many different weeks of the last half year this address took nothing."""
    zone = session.get_one(Shop, 1).zone
    query = (
        select(TouchEvent.at)
        .join(Touch, Touch.id == TouchEvent.touch_id)
        .where(
            Touch.address == touch.address,
            Touch.channel == touch.channel,
            TouchEvent.kind == "soft bounce",
            TouchEvent.at > now - SOFT_SPAN,
        )
    )
    return len({local_day(at, zone).isocalendar()[:2] for at in session.scalars(query)})


def suppress(session: Session, touch: Touch, reason: str, now: datetime) -> None:
    """Once an address and reason."""
    there = session.scalar(
        select(Suppression.id).where(
            Suppression.channel == touch.channel,
            Suppression.address == (touch.address or ""),
            Suppression.reason == reason,
            Suppression.lifted_at.is_(None),
        )
    )
    if there is None:
        session.add(
            Suppression(
                person_id=touch.person_id,
                channel=touch.channel,
                address=touch.address or "",
                reason=reason,
                at=now,
            )
        )
        mark_whole(session, "suppressions")


def complained(desk: Desk, session: Session, touch: Touch) -> None:
    """A complaint ends email to this address at once."""
    now = desk.clock.now()
    event = TouchEvent(touch_id=touch.id, kind="complained", at=now)
    session.add(event)
    session.flush()
    mark_rows(session, "responses", [event.id])
    suppress(session, touch, COMPLAINT, now)
