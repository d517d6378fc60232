"""How each channel stands with its network, kept in the book so that a restart and Today know of it."""

from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.circuit_breaker import Circuit
from loyalbell.core.policy.delivery_state import PLANNED
from loyalbell.services.application import Application
from loyalbell.storage.schema import ChannelCircuit, Delivery


@dataclass(frozen=True)
class ClosedChannel:
    """A channel that has not been accepted ``since``; ``waiting`` messages are due on it."""

    channel: str
    since: datetime
    words: str
    try_at: datetime
    waiting: int


def circuit_of(session: Session, channel: str) -> Circuit:
    row = session.get(ChannelCircuit, channel)
    if row is None:
        return Circuit()
    return Circuit(_seconds(row.since), row.words, _seconds(row.try_at) or 0, row.failures, row.most)


def keep_circuit(session: Session, channel: str, circuit: Circuit, shape: str | None = None) -> None:
    """``shape``: the refusal that many shared; ``None`` leaves the one there was while it stays open."""
    row = session.get(ChannelCircuit, channel)
    if row is None:
        if circuit == Circuit():
            return
        row = ChannelCircuit(channel=channel)
        session.add(row)
    row.since, row.words, row.failures = _instant(circuit.since), circuit.words[:500], circuit.failures
    row.try_at, row.most = _instant(circuit.try_at or None), circuit.most
    row.shape = (row.shape or "") if shape is None and circuit.is_open else shape or ""


def shape_of(session: Session, channel: str) -> str:
    row = session.get(ChannelCircuit, channel)
    return row.shape if row is not None else ""


def resting(session: Session, now: datetime) -> list[str]:
    """Channels on which nothing is handed over at this instant."""
    return list(session.scalars(select(ChannelCircuit.channel).where(ChannelCircuit.try_at > now)))


def next_try(session: Session, now: datetime) -> datetime | None:
    """When the next of the resting channels is tried."""
    return session.scalar(select(func.min(ChannelCircuit.try_at)).where(ChannelCircuit.try_at > now))


def closed_channels(session: Session, now: datetime) -> list[ClosedChannel]:
    """The channels whose network does not accept, with how many messages wait for it."""
    found = []
    for row in session.scalars(select(ChannelCircuit).where(ChannelCircuit.since.is_not(None))):
        waiting = session.scalar(
            select(func.count())
            .select_from(Delivery)
            .where(Delivery.state == PLANNED, Delivery.channel == row.channel, Delivery.due_at <= now)
        )
        assert row.since is not None
        found.append(
            ClosedChannel(row.channel, row.since, row.words, row.try_at or row.since, int(waiting or 0))
        )
    return found


def try_now(application: Application, channel: str, by: str) -> None:
    """A person's word that the channel is to be tried at once."""
    with application.database.transaction() as session:
        row = session.get(ChannelCircuit, channel)
        if row is not None:
            row.try_at = None
            application.note(session, by, "had a channel tried again", channel=channel)


def _seconds(instant: datetime | None) -> int | None:
    return None if instant is None else int(instant.timestamp())


def _instant(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
