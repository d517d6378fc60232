"""Writing down what a network said of each message that was handed over."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outcome
from loyalbell.core.messages.delivery_reports import say_status, status_in
from loyalbell.core.messages.refusals import is_for_good, many_of_few, refused_alike, shape_of_words
from loyalbell.core.policy.circuit_breaker import Circuit
from loyalbell.core.policy.delivery_state import (
    BOUNCED,
    FAILED,
    IN_FLIGHT,
    PLANNED,
    SENT,
    UNSURE,
    ForbiddenTransition,
)
from loyalbell.services.delivery.bounces import Answered, bounced, lately, unmark
from loyalbell.services.delivery.circuits import circuit_of, keep_circuit, shapes_of
from loyalbell.services.delivery.outbox import become, become_all
from loyalbell.services.delivery.timing import patience_of
from loyalbell.storage.schema import Delivery
from loyalbell.storage.webhook_events import announce, anyone_listens

WAITS = (timedelta(minutes=5), timedelta(minutes=30), timedelta(hours=2), timedelta(hours=8))
"""Until the next try of a message that was not taken; the last one again and again while patience lasts."""
ALIKE_IN_A_ROW = 5
"""From so many answers of one kind on, with nothing accepted, they are taken to be about us."""


@dataclass
class BatchOutcomes:
    """What came of one batch on one channel, while it is handed over.

    Refusals of mailboxes are kept back to its end: where many are alike, they are about us and mark nobody.
    """

    channel: str
    usual: int
    answered: list[Outcome] = field(default_factory=list)
    refusals: list[Outcome] = field(default_factory=list)

    def take(self, session: Session, outcomes: Sequence[Outcome], now: datetime) -> None:
        """Keeps each outcome at once; of a refusal only that it was answered."""
        self.answered += outcomes
        taken = [outcome for outcome in outcomes if outcome.result == "accepted"]
        _have_left(session, [outcome.delivery_id for outcome in taken], now)
        others = [outcome for outcome in outcomes if outcome.result != "accepted"]
        rows = _rows(session, others)
        for outcome in others:
            if outcome.result == "refused":
                rows[outcome.delivery_id].detail = outcome.words[:500]
                self.refusals.append(outcome)
            else:
                settle(session, rows[outcome.delivery_id], outcome, now)
        _tell_others(session, outcomes, now)

    def finish(self, session: Session, now: datetime) -> None:
        """The refusals, and how the channel stands after this batch."""
        rows = _rows(session, self.refusals)
        mine = [outcome.delivery_id for outcome in self.answered]
        answers = lately(session, self.channel, mine, now) if self.refusals else []
        alike = self._alike(answers, *shapes_of(session, self.channel))
        about_us = {outcome.delivery_id for outcome in alike}
        unmark(
            session,
            [answer for answer in answers if answer.said in {_said(other.words) for other in alike}],
            now,
        )
        for outcome in self.refusals:
            is_ours = outcome.delivery_id in about_us
            said = replace(outcome, result="try later", about_us=True) if is_ours else outcome
            settle(session, rows[outcome.delivery_id], said, now)
            if is_ours:
                # another one is tried first: one address that is gone must not stand before all the others
                rows[outcome.delivery_id].due_at = now + WAITS[0]
        _tell_others(session, self.refusals, now)
        ours = [outcome for outcome in self.refusals if outcome.delivery_id in about_us]
        shared = shape_of_words(ours[0].words) if ours else None
        after = self._after(circuit_of(session, self.channel), ours, int(now.timestamp()))
        keep_circuit(session, self.channel, after, shared)

    def _alike(self, answers: Sequence[Answered], known: str, believed: str) -> list[Outcome]:
        """Those that many share, in this batch or over the day, or that are like those that many shared,
        unless a person believes them.
        """
        doubted = [
            refusal for refusal in self.refusals if shape_of_words(refusal.words) != (believed or None)
        ]
        alike = list(refused_alike(len(self.answered), [(one, one.words) for one in doubted]))
        counts = Counter([*(_said(one.words) for one in doubted), *(answer.said for answer in answers)])
        total = len(self.answered) + len(answers)
        return alike + [
            one
            for one in doubted
            if one not in alike
            and (
                (known and shape_of_words(one.words) == known) or many_of_few(counts[_said(one.words)], total)
            )
        ]

    def _after(self, circuit: Circuit, alike: list[Outcome], now: int) -> Circuit:
        ours = [outcome for outcome in self.answered if outcome.about_us]
        limits = [outcome for outcome in ours if outcome.is_limit]
        taken = [outcome for outcome in self.answered if outcome.result == "accepted"]
        waits = [outcome.wait for outcome in ours if outcome.wait is not None]
        wait = max(waits) if waits else None
        if limits:
            closed = Circuit(most=circuit.most) if taken or not circuit.is_open else circuit
            return closed.limited(now, len(taken), wait)
        if ours:
            return circuit.failed(now, ours[0].words, wait)
        if alike:
            return circuit.failed(now, alike[0].words)
        later = [outcome for outcome in self.answered if outcome.result in ("try later", "unsure")]
        if not taken and later and (circuit.is_open or len(later) >= ALIKE_IN_A_ROW):
            return circuit.failed(now, later[0].words)
        if taken or self.refusals:
            return circuit.accepted(now, self.usual)
        return circuit


def _said(words: str) -> str:
    """What a refusal says, in the words in which it is kept; those of one kind are alike."""
    status = status_in(words)
    return say_status(status, words) if status else shape_of_words(words)


def settle(session: Session, delivery: Delivery, outcome: Outcome, now: datetime) -> None:
    """Moves on one message that was not taken by what the network said of it."""
    delivery.detail = outcome.words[:500]
    if outcome.result == "refused":
        bounced(session, delivery, now, is_for_good(outcome.words), _said(outcome.words))
    elif outcome.result == "unsure":
        become(delivery, UNSURE)
    elif outcome.about_us:
        _put_back(delivery)
    else:
        _try_later(session, delivery, now)


def _have_left(session: Session, delivery_ids: Sequence[int], now: datetime) -> None:
    """Messages that were taken: the most by far, so that they are moved by one statement."""
    if not delivery_ids:
        return
    mine = Delivery.id.in_(delivery_ids)
    moved = become_all(session, mine, SENT, sent_at=now, cause=None, detail=None)
    if moved == len(delivery_ids):
        return
    was = session.scalars(select(Delivery.state).where(mine, Delivery.state != SENT)).all()
    if was:
        raise ForbiddenTransition(f"the network took a message that is {was[0]}")


def _put_back(delivery: Delivery) -> None:
    """What speaks of us uses up nothing of a message's patience but the time that passes."""
    delivery.attempts -= 1
    delivery.first_due_at = delivery.first_due_at or delivery.due_at
    become(delivery, PLANNED, handed_at=None)


def _try_later(session: Session, delivery: Delivery, now: datetime) -> None:
    first = delivery.first_due_at or delivery.due_at
    wait = WAITS[min(delivery.attempts, len(WAITS)) - 1]
    patience = timedelta(days=patience_of(session, [delivery]).get(delivery.id, 0))
    if now + wait > first + patience:
        become(delivery, FAILED, cause="not accepted", first_due_at=first)
    else:
        become(delivery, PLANNED, due_at=now + wait, first_due_at=first, handed_at=None)


def give_up_on(session: Session, channel: str, now: datetime) -> int:
    """Messages whose patience ran out while their channel was closed. Returns how many.

    They are *failed* with the server's own words, not *too late*: it was not they who were late.
    """
    words = circuit_of(session, channel).words
    query = select(Delivery).where(
        Delivery.state == PLANNED, Delivery.channel == channel, Delivery.due_at < now - timedelta(days=1)
    )
    waiting = list(session.scalars(query))
    patience = patience_of(session, waiting)
    gone = [
        delivery
        for delivery in waiting
        if (delivery.first_due_at or delivery.due_at) + timedelta(days=patience.get(delivery.id, 0)) < now
    ]
    for delivery in gone:
        become(delivery, FAILED, cause="not accepted", detail=words)
    return len(gone)


def mark_handed(session: Session, delivery_ids: Sequence[int], now: datetime) -> None:
    """Written down before they leave: from here on only the network knows whether it has them."""
    handed = {"handed_at": now, "attempts": Delivery.attempts + 1}
    session.execute(
        update(Delivery).where(Delivery.id.in_(delivery_ids)).values(handed),
        execution_options={"synchronize_session": False},
    )


def give_back(session: Session, delivery_ids: Sequence[int]) -> None:
    """Messages in hand that were not handed over stay planned, as if nothing had been."""
    query = select(Delivery).where(
        Delivery.id.in_(delivery_ids), Delivery.state == IN_FLIGHT, Delivery.handed_at.is_(None)
    )
    for delivery in session.scalars(query):
        become(delivery, PLANNED)


def _rows(session: Session, outcomes: Iterable[Outcome]) -> dict[int, Delivery]:
    ids = [outcome.delivery_id for outcome in outcomes]
    return {row.id: row for row in session.scalars(select(Delivery).where(Delivery.id.in_(ids)))}


def _tell_others(session: Session, outcomes: Sequence[Outcome], now: datetime) -> None:
    if not outcomes or not anyone_listens(session):
        return
    for delivery in _rows(session, outcomes).values():
        kind = {SENT: "message.sent", BOUNCED: "message.bounced"}.get(delivery.state)
        if kind:
            announce(
                session, kind, now, person=delivery.person_id, channel=delivery.channel, touch=delivery.id
            )
