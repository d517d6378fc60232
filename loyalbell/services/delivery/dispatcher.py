"""Handing touches to a channel so that none goes twice and none is lost.

A delivery is *planned*, then *in flight* (written down before anything leaves), then
*sent*, *bounced* or planned again for later. One found *in flight* after a crash
may or may not have gone: it becomes *unsure* and waits for a person, unless the
network can be asked.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, select, update
from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.channels import CHANNELS
from loyalbell.core.messages.delivery_reports import say_status, status_in
from loyalbell.core.messages.refusals import is_for_good, refused_alike
from loyalbell.core.policy.delivery_state import BOUNCED, FAILED, IN_FLIGHT, PLANNED, SENT, UNSURE, WAITING
from loyalbell.services.application import Application
from loyalbell.services.delivery.bounces import bounced
from loyalbell.services.delivery.composer import Composer
from loyalbell.services.delivery.outbox import become
from loyalbell.services.delivery.rendering import message_id
from loyalbell.services.delivery.timing import allowed_now
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage.schema import Campaign, Delivery, Shop
from loyalbell.storage.webhook_events import announce, anyone_listens

BATCH = 50
WAITS = (timedelta(minutes=5), timedelta(minutes=30), timedelta(hours=2), timedelta(hours=8))


@dataclass(frozen=True)
class Batch:
    """What one claim took out of the queue: ``ready`` to hand over, ``settled`` without sending."""

    ready: list[Outgoing]
    settled: int

    def __len__(self) -> int:
        return len(self.ready) + self.settled


def send_due(application: Application, sender: Sender, limit: int = BATCH) -> int:
    """One step: claims due touches, hands them over, records what came of it. Returns how many."""
    if not anything_due(application):
        return 0
    batch = claim(application, limit)
    if batch.ready:
        record(application, sender.send(batch.ready))
    if len(batch):
        finish_campaigns(application)
    return len(batch)


def anything_due(application: Application) -> bool:
    """Asked without taking the book's one writer, so that an idle heartbeat disturbs nobody."""
    with application.database.reading() as session:
        shop = session.get(Shop, 1)
        query = select(Delivery.id).where(*_due(session, application.clock.now())).limit(1)
        return shop is not None and shop.ringing and session.scalar(query) is not None


def _due(session: Session, now: datetime) -> tuple[ColumnElement[bool], ...]:
    """Planned for now or earlier, on a channel that is not silenced."""
    silent = CareSettings.load(session).silent
    return (Delivery.state == PLANNED, Delivery.due_at <= now, Delivery.channel.not_in(silent))


def claim(application: Application, limit: int) -> Batch:
    """Checks each due touch once more, makes its mail, and marks it *handing*, in one transaction."""
    now = application.clock.now()
    with application.database.transaction() as session:
        shop = session.get(Shop, 1)
        if shop is None or not shop.ringing:
            return Batch([], 0)
        due = select(Delivery).where(*_due(session, now)).order_by(Delivery.due_at, Delivery.id).limit(limit)
        claimed = list(session.scalars(due))
        deliveries = allowed_now(session, shop, claimed, now)
        composer, ready = Composer(application, session, shop, now), []
        for channel in CHANNELS:
            ready += composer.ready(
                [delivery for delivery in deliveries if delivery.channel == channel], channel
            )
        return Batch(ready, len(claimed) - len(ready))


def record(application: Application, outcomes: Sequence[Outcome]) -> None:
    """Writes what the network said of each touch that was handed over."""
    now = application.clock.now()
    with application.database.transaction() as session:
        found = {
            delivery.id: delivery
            for delivery in session.scalars(
                select(Delivery).where(Delivery.id.in_([o.delivery_id for o in outcomes]))
            )
        }
        for outcome in _doubted(outcomes):
            _settle(session, found[outcome.delivery_id], outcome, now)
        _tell_others(session, found.values(), now)


def _doubted(outcomes: Sequence[Outcome]) -> list[Outcome]:
    """Refusals that many of a batch share are tried again instead of counting against the customers."""
    refusals = [(one.delivery_id, one.words) for one in outcomes if one.result == "refused"]
    alike = set(refused_alike(len(outcomes), refusals))
    return [replace(one, result="try later") if one.delivery_id in alike else one for one in outcomes]


def _tell_others(session: Session, deliveries: Iterable[Delivery], now: datetime) -> None:
    if not anyone_listens(session):
        return
    for delivery in deliveries:
        kind = {SENT: "message.sent", BOUNCED: "message.bounced"}.get(delivery.state)
        if kind:
            announce(
                session, kind, now, person=delivery.person_id, channel=delivery.channel, touch=delivery.id
            )


def _settle(session: Session, delivery: Delivery, outcome: Outcome, now: datetime) -> None:
    delivery.detail = outcome.words[:500]
    if outcome.result == "accepted":
        become(delivery, SENT, sent_at=now, cause=None, detail=None)
    elif outcome.result == "refused":
        status = status_in(outcome.words)
        bounced(
            session,
            delivery,
            now,
            is_for_good(outcome.words),
            say_status(status, outcome.words) if status else outcome.words,
        )
    elif outcome.result == "unsure":
        become(delivery, UNSURE)
    elif delivery.attempts <= len(WAITS):
        become(delivery, PLANNED, due_at=now + WAITS[delivery.attempts - 1])
    else:
        become(delivery, FAILED, cause="not accepted")


def mend_after_stop(application: Application, sender: Sender) -> None:
    """After a start: touches left *handing* are settled by asking the network, or become *unsure*."""
    with application.database.transaction() as session:
        shop = session.get(Shop, 1)
        left = list(session.scalars(select(Delivery).where(Delivery.state.in_((IN_FLIGHT, UNSURE)))))
        for delivery in left:
            assert shop is not None
            known = sender.knows(message_id(delivery, shop), delivery.channel)
            if known:
                become(delivery, SENT, sent_at=delivery.handed_at, detail=None)
            elif known is None:
                become(delivery, UNSURE, detail="the program stopped while handing this over")
            else:
                become(delivery, PLANNED, detail=None)
    finish_campaigns(application)


def decide_unsure(
    application: Application, origin_id: int, again: bool, by: str, kind: str = "campaign"
) -> int:
    """A person's word on the unsure touches of a campaign or a sequence: send again, or count as sent."""
    with application.database.transaction() as session:
        unsure = list(
            session.scalars(
                select(Delivery).where(
                    Delivery.state == UNSURE, Delivery.origin_kind == kind, Delivery.origin_id == origin_id
                )
            )
        )
        for delivery in unsure:
            if again:
                become(delivery, PLANNED, due_at=application.clock.now())
            else:
                become(delivery, SENT, sent_at=delivery.handed_at)
        if again and kind == "campaign":
            session.get_one(Campaign, origin_id).state = "sending"
        word = "sent again" if again else "counted as sent"
        application.note(session, by, f"unsure messages {word}", **{kind: origin_id}, people=len(unsure))
    finish_campaigns(application)
    return len(unsure)


def finish_campaigns(application: Application) -> None:
    """A campaign is over when nothing of it waits any more and no further round comes."""
    waiting = select(Delivery.origin_id).where(
        Delivery.origin_kind == "campaign", Delivery.state.in_(WAITING)
    )
    with application.database.transaction() as session:
        now = application.clock.now()
        done = (Campaign.state == "sending") & Campaign.id.not_in(waiting)
        session.execute(
            update(Campaign).where(done, Campaign.round_at.is_not(None)).values(state="scheduled")
        )
        finished = session.execute(
            update(Campaign)
            .where(done)
            .values(state="sent", ended_at=now)
            .returning(Campaign.id, Campaign.name)
        ).all()
        for campaign_id, name in finished:
            announce(session, "campaign.finished", now, campaign=campaign_id, name=name)
