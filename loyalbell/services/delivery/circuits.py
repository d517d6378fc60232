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
    """A channel that has not been accepted ``since``; ``waiting`` messages are due on it.

    ``many_alike``: its network refuses many addresses in the same words, so that a person must say whether it
    is right.
    """

    channel: str
    since: datetime
    words: str
    try_at: datetime
    waiting: int
    many_alike: bool


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


def shapes_of(session: Session, channel: str) -> tuple[str, str]:
    """The refusal that many shared, and the one that a person takes to be true of the addresses."""
    row = session.get(ChannelCircuit, channel)
    return (row.shape, row.believed) if row is not None else ("", "")


def resting(session: Session, now: datetime) -> list[str]:
    """Channels on which nothing is handed over at this instant."""
    return list(session.scalars(select(ChannelCircuit.channel).where(ChannelCircuit.try_at > now)))


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
            ClosedChannel(
                row.channel, row.since, row.words, row.try_at or now, int(waiting or 0), bool(row.shape)
            )
        )
    return found


def closed_now(application: Application) -> list[ClosedChannel]:
    with application.database.reading() as session:
        return closed_channels(session, application.clock.now())


def try_now(application: Application, channel: str, by: str) -> None:
    """A person's word that the channel is to be tried at once."""
    with application.database.transaction() as session:
        row = session.get(ChannelCircuit, channel)
        if row is not None:
            row.try_at = None
            application.note(session, by, "had a channel tried again", channel=channel)


def believe(application: Application, channel: str, by: str) -> None:
    """A person's word that the refusals which many shared are right: those addresses are gone."""
    with application.database.transaction() as session:
        row = session.get(ChannelCircuit, channel)
        if row is not None and row.shape:
            row.believed, row.shape = row.shape, ""
            row.since, row.try_at, row.failures, row.words = None, None, 0, ""
            application.note(session, by, "confirmed that the refused addresses are gone", channel=channel)


def close_channel(application: Application, channel: str, words: str) -> None:
    """Notes a fault of our own, found before anything was handed over."""
    now = int(application.clock.now().timestamp())
    with application.database.transaction() as session:
        keep_circuit(session, channel, circuit_of(session, channel).failed(now, words))


def _seconds(instant: datetime | None) -> int | None:
    return None if instant is None else int(instant.timestamp())


def _instant(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
