"""Handing messages to a channel so that none goes twice and none is lost.

A delivery is *planned*, then taken in hand (*in flight*), then marked with the instant at which it is handed
over, a few at a time, before anything leaves; then *sent*, *bounced* or planned again. One that is found
marked after a crash may or may not have gone: it becomes *unsure* and waits for a person, unless the network
can be asked (``after_stop.py``).
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

import structlog
from sqlalchemy import ColumnElement, Select, select, update
from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.channels import CHANNELS
from loyalbell.core.policy.delivery_state import PAUSED, PLANNED, WAITING, WITHHELD
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.services.application import Application
from loyalbell.services.delivery.circuits import circuit_of, close_channel, resting
from loyalbell.services.delivery.claiming import Claim
from loyalbell.services.delivery.composing.composer import ChannelFault, Composer, Made
from loyalbell.services.delivery.composing.writings import Writings
from loyalbell.services.delivery.enrolment_recheck import exited_since, left_by_now
from loyalbell.services.delivery.leader_lease import Lease
from loyalbell.services.delivery.outbox import become
from loyalbell.services.delivery.outcomes import BatchOutcomes, give_back, give_up_on, mark_handed
from loyalbell.services.delivery.page_tokens import ensure_key
from loyalbell.services.delivery.perhaps_gone import without_doubtful
from loyalbell.services.delivery.timing import allowed_now
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery, Shop
from loyalbell.storage.webhook_events import announce

BATCH = 50
log = structlog.get_logger()


def _never() -> bool:
    return False


@dataclass(frozen=True)
class Batch:
    """What one claim took out of the queue: ``ready`` to hand over, ``settled`` without sending."""

    ready: list[Outgoing]
    settled: int

    def __len__(self) -> int:
        return len(self.ready) + self.settled


def send_due(
    application: Application,
    sender: Sender,
    limit: int = BATCH,
    channels: Sequence[str] = CHANNELS,
    lease: Lease | None = None,
    stopping: Callable[[], bool] = _never,
) -> int:
    """One step: on each channel takes due messages in hand, hands them over, records what came of it.

    Returns how many were dealt with. Raises ``LeaseLost``.
    """
    count = 0
    for channel in due_channels(application, channels):
        if stopping():
            break
        try:
            batch = claim(application, limit, channel, lease)
        except ChannelFault as fault:
            close_channel(application, channel, str(fault))
            continue
        if batch.ready:
            HandOver(application, sender, channel, limit, lease, stopping).run(batch.ready)
        count += len(batch)
    if count:
        finish_campaigns(application)
    return count


def anything_due(application: Application, channels: Sequence[str] = CHANNELS) -> bool:
    return bool(due_channels(application, channels))


def due_channels(application: Application, channels: Sequence[str] = CHANNELS) -> list[str]:
    """Those on which something is to be sent now, in their order.

    Asked without taking the book's one writer, so that an idle heartbeat disturbs nobody.
    """
    with application.database.reading() as session:
        now = application.clock.now()
        planned = (Delivery.state == PLANNED) & (Delivery.due_at <= now) & Delivery.channel.in_(channels)
        if session.scalar(select(Delivery.id).where(planned).limit(1)) is None:
            return []
        shop = session.get(Shop, 1)
        if shop is None or not shop.ringing:
            return []
        rests = resting(session, now)
        open_ones = [channel for channel in channels if channel not in rests]
        query = select(Delivery.channel).where(*_due(session, now, open_ones)).distinct()
        due = set(session.scalars(query))
        return [channel for channel in open_ones if channel in due]


def _due(session: Session, now: datetime, channels: Sequence[str]) -> tuple[ColumnElement[bool], ...]:
    """Planned for now or earlier, on a channel that is not silenced, for a department that is not."""
    care = CareSettings.load(session)
    heard = [channel for channel in channels if channel not in care.silent]
    due = (Delivery.state == PLANNED, Delivery.due_at <= now, Delivery.channel.in_(heard))
    if not care.silent_departments:
        return due
    rests = select(schema.Sequence.id).where(schema.Sequence.department_id.in_(care.silent_departments))
    return (*due, (Delivery.origin_kind != SEQUENCE) | Delivery.origin_id.not_in(rests))


def _of_resting(session: Session, claimed: Sequence[Delivery]) -> list[Delivery]:
    """Without those whose sequence is paused, which wait with it, or whose campaign has been stopped: a
    person may have let them go meanwhile, or the network put them back.
    """
    paused = set(session.scalars(select(schema.Sequence.id).where(schema.Sequence.state == "paused")))
    stopped = set(session.scalars(select(Campaign.id).where(Campaign.state == "stopped")))
    kept = []
    for delivery in claimed:
        if delivery.origin_kind == SEQUENCE and delivery.origin_id in paused:
            become(delivery, PAUSED)
        elif delivery.origin_kind == CAMPAIGN and delivery.origin_id in stopped:
            become(delivery, WITHHELD, cause="stopped")
        else:
            kept.append(delivery)
    return kept


def claim(application: Application, limit: int, channel: str = "email", lease: Lease | None = None) -> Batch:
    """Checks each due message once more, takes it in hand, and makes it.

    What takes long (whose run has ended by now, and the messages themselves) is worked out while nothing is
    held up; the transaction between only decides. Raises ``ChannelFault``, with nothing in hand, where
    our own settings let nothing be made.
    """
    now = application.clock.now()
    gone = _ended(application, channel, limit, now)
    with application.database.transaction() as session:
        shop = session.get(Shop, 1)
        if shop is None or not shop.ringing:
            return Batch([], 0)
        if lease is not None:
            lease.check(session)
        circuit = circuit_of(session, channel)
        given_up = give_up_on(session, channel, now) if circuit.is_open else 0
        most = circuit.batch(int(now.timestamp()), limit)
        claimed = list(session.scalars(_next(session, channel, most, now).where(Delivery.id.in_(gone))))
        certain = without_doubtful(session, _of_resting(session, claimed))
        deliveries = allowed_now(session, shop, certain, now)
        writings = Writings(shop)
        ended = gone | left_by_now(session, deliveries)
        ensure_key(session)  # the messages are made while nothing can be written
        going, codes = Claim(session, shop, now, writings).take(deliveries, channel, ended)
    try:
        with application.database.reading() as session:
            made = Composer(application, session, shop, now, writings, codes).make(going)
    except BaseException:
        with application.database.transaction() as session:
            give_back(session, going)
        raise
    ready = _note(application, made)
    return Batch(ready, given_up + len(claimed) - len(ready))


def _next(session: Session, channel: str, most: int, now: datetime) -> Select[Delivery]:
    """The messages that are due first on a channel."""
    due = select(Delivery).where(*_due(session, now, [channel]))
    return due.order_by(Delivery.due_at, Delivery.id).limit(most)


def _ended(application: Application, channel: str, limit: int, now: datetime) -> dict[int, str | None]:
    """The next due messages by id, with why their person's run has ended where it has."""
    snapshot = application.snapshot()
    with application.database.reading() as session:
        due = list(session.scalars(_next(session, channel, limit, now)))
        gone = exited_since(application, session, snapshot, due, int(now.timestamp()))
    return {delivery.id: gone.get(delivery.id) for delivery in due}


def _note(application: Application, made: Sequence[Made]) -> list[Outgoing]:
    """Writes down what was made of each, and gives up those that could not be. Returns those to hand over."""
    if not made:
        return []
    with application.database.transaction() as session:
        give_back(session, [one.delivery_id for one in made if one.outgoing is None])
        session.flush()
        query = select(Delivery).where(Delivery.id.in_([one.delivery_id for one in made]))
        rows = {delivery.id: delivery for delivery in session.scalars(query)}
        for one in made:
            delivery = rows[one.delivery_id]
            delivery.language = one.language or delivery.language
            delivery.shown, delivery.parts, delivery.cost_minor = one.shown, one.parts, one.cost_minor
            if one.outgoing is None:
                become(delivery, WITHHELD, cause=one.cause, detail=one.detail)
    return [one.outgoing for one in made if one.outgoing is not None]


@dataclass
class HandOver:
    """A batch on its way to one channel's network, a few messages side by side."""

    application: Application
    sender: Sender
    channel: str
    usual: int
    lease: Lease | None
    stopping: Callable[[], bool]

    def run(self, ready: Sequence[Outgoing]) -> None:
        """Ends early where the network's answer speaks of us; what was not handed over stays planned."""
        outcomes = BatchOutcomes(self.channel, self.usual)
        waiting, said = list(ready), list[Outcome]()
        try:
            while waiting and not self.stopping() and not any(outcome.about_us for outcome in said):
                group = waiting[: self.sender.side_by_side]
                if not self._before(outcomes, said, group):
                    said = []
                    break
                waiting, said = waiting[len(group) :], self._hand(group)
        finally:
            self.sender.finish(self.channel)
        now = self.application.clock.now()
        with self.application.database.transaction() as session:
            self._check(session)
            outcomes.take(session, said, now)
            outcomes.finish(session, now)
            give_back(session, [message.delivery_id for message in waiting])
        self.application.outcomes.update((self.channel, one.result) for one in outcomes.answered)

    def _before(self, outcomes: BatchOutcomes, said: list[Outcome], group: Sequence[Outgoing]) -> bool:
        """One transaction: what came of the group before, and that this one leaves now.

        ``False`` where everything, or this channel, has been silenced meanwhile: then it does not leave.
        """
        now = self.application.clock.now()
        with self.application.database.transaction() as session:
            self._check(session)
            outcomes.take(session, said, now)
            is_silent = self.channel in CareSettings.load(session).silent
            if is_silent or not session.get_one(Shop, 1).ringing:
                return False
            mark_handed(session, [message.delivery_id for message in group], now)
            return True

    def _check(self, session: Session) -> None:
        if self.lease is not None:
            self.lease.check(session)

    def _hand(self, group: Sequence[Outgoing]) -> list[Outcome]:
        """A sender that breaks its promise never to raise leaves its group in doubt, and nothing else."""
        try:
            return self.sender.send(group)
        except Exception as error:
            log.exception("a sender failed", channel=self.channel)
            words = f"{type(error).__name__}: {error}"
            return [Outcome(message.delivery_id, "unsure", words, about_us=True) for message in group]


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
