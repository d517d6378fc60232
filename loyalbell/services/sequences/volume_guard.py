"""The volume guard: what is far above a sequence's normal day is held until a person looks at it."""

from collections import Counter
from datetime import datetime, timedelta

from sqlalchemy import Integer, func, select, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.policy.delivery_state import COUNTED_BY_GUARD, HELD, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.send_policy import VolumeGuard
from loyalbell.services.application import Application
from loyalbell.services.delivery.let_go import let_go
from loyalbell.services.delivery.outbox import become_all
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, HeldBatch

WEEK, FOUR_WEEKS = timedelta(days=7), timedelta(days=28)
DAYS_ALIKE = 2
"""From so many days of one weekday on, they speak for it."""


def day_start(now: datetime, zone: str) -> datetime:
    """The first instant of the local day."""
    kept = zone_of(zone)
    return datetime.fromtimestamp(kept.instant(kept.day(int(now.timestamp())), 0), now.tzinfo)


def sent_today(session: Session, sequence_id: int, now: datetime, zone: str) -> int:
    """Messages of the sequence since the local day began, those about to leave included."""
    query = select(func.count()).where(
        Delivery.origin_kind == SEQUENCE,
        Delivery.origin_id == sequence_id,
        Delivery.state.in_(COUNTED_BY_GUARD),
        Delivery.due_at >= day_start(now, zone),
    )
    return int(session.scalar(query) or 0)


def normal_of(
    session: Session, sequence: schema.Sequence, now: datetime, guard: VolumeGuard, people: int, zone: str
) -> float:
    """Messages on a usual day like today, and those of a paced backlog that were confirmed for it.

    Usual is what the same weekday had in the past four weeks, or where it has fewer than two such days, any
    day that had messages. In its first week it is what the rehearsal said of the weekday, but never more than
    a newcomer's share of those on file.
    """
    kept = zone_of(zone)
    today = day_of(kept.day(int(now.timestamp())))
    confirmed = (sequence.let_in or {}).get(today.isoformat(), 0)
    if sequence.rings_since is None or sequence.rings_since > now - WEEK:
        return min(_rehearsed(sequence, today.weekday()), guard.newcomer * people) + confirmed
    query = (
        select(type_coerce(Delivery.due_at, Integer))
        .outerjoin(HeldBatch, HeldBatch.id == Delivery.held_batch_id)
        .where(
            Delivery.origin_kind == SEQUENCE,
            Delivery.origin_id == sequence.id,
            Delivery.state.in_(COUNTED_BY_GUARD),
            Delivery.due_at > now - FOUR_WEEKS,
            Delivery.due_at < day_start(now, zone),
            Delivery.held_batch_id.is_(None) | HeldBatch.is_usual,
        )
    )
    days = Counter(kept.day(second) for second in session.scalars(query))
    alike = [count for day, count in days.items() if day_of(day).weekday() == today.weekday()]
    counts = alike if len(alike) >= DAYS_ALIKE else list(days.values())
    if not counts:
        return min(_rehearsed(sequence, today.weekday()), guard.newcomer * people) + confirmed
    return sum(counts) / len(counts) + confirmed


def _rehearsed(sequence: schema.Sequence, weekday: int) -> float:
    return (sequence.by_weekday[weekday] if sequence.by_weekday else 0.0) or sequence.normal or 0.0


def batch_for(
    session: Session, sequence: schema.Sequence, now: datetime, zone: str, normal: float, most: int
) -> int | None:
    """The held batch of the sequence's day, made where there is none.

    ``None`` where a person has let the day go.
    """
    kept = zone_of(zone)
    day = day_of(kept.day(int(now.timestamp()))).isoformat()
    query = select(HeldBatch).where(
        HeldBatch.origin_kind == SEQUENCE, HeldBatch.origin_id == sequence.id, HeldBatch.day == day
    )
    there = list(session.scalars(query.order_by(HeldBatch.id)))
    if any(one.state == "released" for one in there):
        return None
    for one in there:
        if one.state == "held":
            return one.id
    batch = HeldBatch(
        origin_kind=SEQUENCE, origin_id=sequence.id, day=day, made_at=now, normal=normal, most=most
    )
    session.add(batch)
    session.flush()
    return batch.id


def decide(
    application: Application, batch_id: int, release: int | None, by: str, is_usual: bool = False
) -> int:
    """A person's word on a held batch: lets the first ``release`` of its messages go (``None``: all; 0: none,
    they are dropped). Only where they say so (``is_usual``) does such a day count as usual from now on.

    Those let go are asked everything once more before they leave. Returns how many were let go.
    """
    now = application.clock.now()
    with application.database.transaction() as session:
        batch = session.get_one(HeldBatch, batch_id)
        is_held = (Delivery.held_batch_id == batch_id) & (Delivery.state == HELD)
        held = list(session.scalars(select(Delivery).where(is_held).order_by(Delivery.id)))
        released = held if release is None else held[:release]
        let_go(session, released, now)
        if release == 0:
            become_all(session, is_held, WITHHELD, cause="volume")
        if release is None or release == 0:
            batch.state = "dropped" if release == 0 else "released"
            batch.is_usual = is_usual and release is None
            batch.decided_at, batch.decided_by = now, by
        application.note(
            session, by, "decided on a held batch", batch=batch_id, let_go=len(released), of=len(held)
        )
        return len(released)
