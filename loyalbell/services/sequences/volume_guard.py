"""The volume guard: what is far above a sequence's normal day is held until a person looks at it."""

from datetime import datetime, timedelta

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.policy.delivery_state import COUNTED_BY_GUARD, HELD, PLANNED, WITHHELD, DeliveryState
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.send_policy import VolumeGuard
from loyalbell.services.application import Application
from loyalbell.services.delivery.outbox import become_all
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, HeldBatch

WEEK, FOUR_WEEKS = timedelta(days=7), timedelta(days=28)


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
    session: Session, sequence: schema.Sequence, now: datetime, guard: VolumeGuard, people: int
) -> float:
    """Messages on a usual day: those of the past four weeks, on days that had any.

    In its first week it is what the rehearsal said, but never more than a newcomer's share of those on file.
    """
    if sequence.rings_since is None or sequence.rings_since > now - WEEK:
        return min(sequence.normal or 0.0, guard.newcomer * people)
    query = (
        select(func.count())
        .where(
            Delivery.origin_kind == SEQUENCE,
            Delivery.origin_id == sequence.id,
            Delivery.state.in_(COUNTED_BY_GUARD),
            Delivery.due_at > now - FOUR_WEEKS,
            Delivery.due_at <= now - timedelta(days=1),
            Delivery.held_batch_id.is_(None),
        )
        .group_by(text("delivery.due_at / 86400"))
    )
    days = list(session.scalars(query))
    return sum(days) / len(days) if days else min(sequence.normal or 0.0, guard.newcomer * people)


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


def decide(application: Application, batch_id: int, release: int | None, by: str) -> int:
    """A person's word on a held batch: lets the first ``release`` of its messages go (``None``: all.

    0: none, dropped).

    Those let go are asked everything once more before they leave. Returns how many were let go.
    """
    now = application.clock.now()
    with application.database.transaction() as session:
        batch = session.get_one(HeldBatch, batch_id)
        held = list(
            session.scalars(
                select(Delivery.id)
                .where(Delivery.held_batch_id == batch_id, Delivery.state == HELD)
                .order_by(Delivery.id)
            )
        )
        let_go = held if release is None else held[:release]
        _set(session, let_go, PLANNED, due_at=now)
        if release is None or release == 0:
            _set(session, held[len(let_go) :], WITHHELD, cause="volume")
            batch.state = "dropped" if release == 0 else "released"
            batch.decided_at, batch.decided_by = now, by
        application.note(
            session, by, "decided on a held batch", batch=batch_id, let_go=len(let_go), of=len(held)
        )
        return len(let_go)


def _set(session: Session, ids: list[int], state: DeliveryState, **facts: object) -> None:
    for start in range(0, len(ids), 500):
        become_all(session, Delivery.id.in_(ids[start : start + 500]), state, **facts)
