"""Handing touches to a channel so that none goes twice and none is lost.

A touch is *planned*, then *handing* (written down before anything leaves), then
*sent*, *bounced* or planned again for later. One found *handing* after a crash
may or may not have gone: it becomes *unsure* and waits for a person, unless the
network can be asked.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, select, update
from sqlalchemy.orm import Session

from loyalbell.channels.base import Outcome, Outgoing, Sender
from loyalbell.core.messages.reports import lasting, say_status, status_in
from loyalbell.desk.bounces import bounced
from loyalbell.desk.campaign_care import ready_now
from loyalbell.desk.channel_settings import CareSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import message_id
from loyalbell.desk.outgoing import Maker
from loyalbell.store.happenings import announce, anyone_listens
from loyalbell.store.journal import mark_rows
from loyalbell.store.tables import Campaign, Shop, Touch

BATCH = 50
WAITS = (timedelta(minutes=5), timedelta(minutes=30), timedelta(hours=2), timedelta(hours=8))


@dataclass(frozen=True)
class Batch:
    """What one claim took out of the queue: ``ready`` to hand over, ``settled`` without sending."""

    ready: list[Outgoing]
    settled: int

    def __len__(self) -> int:
        return len(self.ready) + self.settled


def send_due(desk: Desk, sender: Sender, limit: int = BATCH) -> int:
    """One step: claims due touches, hands them over, records what came of it. Returns how many."""
    if not anything_due(desk):
        return 0
    batch = claim(desk, limit)
    if batch.ready:
        record(desk, sender.send(batch.ready))
    if len(batch):
        finish_campaigns(desk)
    return len(batch)


def anything_due(desk: Desk) -> bool:
    """Asked without taking the book's one writer, so that an idle heartbeat disturbs nobody."""
    with desk.book.reading() as session:
        shop = session.get(Shop, 1)
        query = select(Touch.id).where(*_due(session, desk.clock.now())).limit(1)
        return shop is not None and shop.ringing and session.scalar(query) is not None


def _due(session: Session, now: datetime) -> tuple[ColumnElement[bool], ...]:
    """Planned for now or earlier, on a channel that is not silenced."""
    silent = CareSettings.load(session).silent
    return (Touch.state == "planned", Touch.due_at <= now, Touch.channel.not_in(silent))


def claim(desk: Desk, limit: int) -> Batch:
    """Checks each due touch once more, makes its mail, and marks it *handing*, in one transaction."""
    now = desk.clock.now()
    with desk.book.writing() as session:
        shop = session.get(Shop, 1)
        if shop is None or not shop.ringing:
            return Batch([], 0)
        due = select(Touch).where(*_due(session, now)).order_by(Touch.due_at, Touch.id).limit(limit)
        claimed = list(session.scalars(due))
        touches = ready_now(session, shop, claimed, now)
        maker, ready = Maker(desk, session, shop, now), []
        for channel in ("email", "text", "chat"):
            ready += maker.ready([touch for touch in touches if touch.channel == channel], channel)
        return Batch(ready, len(claimed) - len(ready))


def record(desk: Desk, outcomes: Sequence[Outcome]) -> None:
    """Writes what the network said of each touch that was handed over."""
    now = desk.clock.now()
    with desk.book.writing() as session:
        found = {
            touch.id: touch
            for touch in session.scalars(select(Touch).where(Touch.id.in_([o.touch_id for o in outcomes])))
        }
        for outcome in outcomes:
            _settle(session, found[outcome.touch_id], outcome, now)
        mark_rows(session, "touches", found)
        _tell_others(session, found.values(), now)


def _tell_others(session: Session, touches: Iterable[Touch], now: datetime) -> None:
    if not anyone_listens(session):
        return
    for touch in touches:
        kind = {"sent": "message.sent", "bounced": "message.bounced"}.get(touch.state)
        if kind:
            announce(session, kind, now, person=touch.person_id, channel=touch.channel, touch=touch.id)


def _settle(session: Session, touch: Touch, outcome: Outcome, now: datetime) -> None:
    touch.detail = outcome.words[:500]
    if outcome.result == "accepted":
        touch.state, touch.sent_at, touch.cause, touch.detail = "sent", now, None, None
    elif outcome.result == "refused":
        status = status_in(outcome.words)
        bounced(
            session,
            touch,
            now,
            _lasting(touch, status, outcome.words),
            say_status(status, outcome.words) if status else outcome.words,
        )
    elif outcome.result == "unsure":
        touch.state = "unsure"
    elif touch.attempts <= len(WAITS):
        touch.state, touch.due_at = "planned", now + WAITS[touch.attempts - 1]
    else:
        touch.state, touch.cause = "failed", "not accepted"


def _lasting(touch: Touch, status: str, words: str) -> bool:
    """Whether a refusal is about the address itself; a gateway says so with 404 or 410."""
    if touch.channel != "email":
        return words.startswith(("404", "410"))
    return lasting(status) if status else words.startswith(("550", "551", "553"))


def mend_after_stop(desk: Desk, sender: Sender) -> None:
    """After a start: touches left *handing* are settled by asking the network, or become *unsure*."""
    with desk.book.writing() as session:
        shop = session.get(Shop, 1)
        left = list(session.scalars(select(Touch).where(Touch.state.in_(("handing", "unsure")))))
        for touch in left:
            assert shop is not None
            known = sender.knows(message_id(touch, shop), touch.channel)
            if known:
                touch.state, touch.sent_at, touch.detail = "sent", touch.handed_at, None
            elif known is None:
                touch.state = "unsure"
                touch.detail = "the program stopped while handing this over"
            else:
                touch.state, touch.detail = "planned", None
        mark_rows(session, "touches", [touch.id for touch in left])
    finish_campaigns(desk)


def decide_unsure(desk: Desk, origin_id: int, again: bool, by: str, kind: str = "campaign") -> int:
    """A person's word on the unsure touches of a campaign or a sequence: send again, or count as sent."""
    with desk.book.writing() as session:
        unsure = list(
            session.scalars(
                select(Touch).where(
                    Touch.state == "unsure", Touch.origin_kind == kind, Touch.origin_id == origin_id
                )
            )
        )
        for touch in unsure:
            if again:
                touch.state, touch.due_at = "planned", desk.clock.now()
            else:
                touch.state, touch.sent_at = "sent", touch.handed_at
        if again and kind == "campaign":
            session.get_one(Campaign, origin_id).state = "sending"
        word = "sent again" if again else "counted as sent"
        desk.note(session, by, f"unsure messages {word}", **{kind: origin_id}, people=len(unsure))
        mark_rows(session, "touches", [touch.id for touch in unsure])
    finish_campaigns(desk)
    return len(unsure)


def finish_campaigns(desk: Desk) -> None:
    """A campaign is over when nothing of it waits any more and no further round comes."""
    waiting = select(Touch.origin_id).where(
        Touch.origin_kind == "campaign", Touch.state.in_(("planned", "handing"))
    )
    with desk.book.writing() as session:
        now = desk.clock.now()
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
