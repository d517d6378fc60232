"""The figures of the program's health, for its page, for /health and for /metrics."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select

from loyalbell.core.channels import CHANNELS
from loyalbell.core.policy.delivery_state import HELD, PLANNED, UNSURE
from loyalbell.services.application import Application
from loyalbell.services.backups import queries as backup_queries
from loyalbell.services.delivery.circuits import ClosedChannel, closed_channels
from loyalbell.services.health.room import free_bytes, least_bytes
from loyalbell.storage import change_log
from loyalbell.storage.opening import newest_revision
from loyalbell.storage.schema import Delivery


@dataclass(frozen=True)
class ChannelQueue:
    """Messages of a channel that are due and have not left. ``oldest``: since when the first one is due."""

    channel: str
    due: int
    oldest: datetime | None


@dataclass(frozen=True)
class WriteWaits:
    """Of the last writers: how long nine of ten waited at most, how long the longest wrote (seconds)."""

    count: int
    waited: float
    held: float


@dataclass(frozen=True)
class Standing:
    """``snapshot_lag``: notes of changes that the figures in memory do not hold yet. Sizes in bytes."""

    queues: list[ChannelQueue]
    held: int
    unsure: int
    closed: list[ClosedChannel]
    snapshot_lag: int
    writes: WriteWaits
    free: int
    least: int
    book: int
    revision: str
    backup_age: timedelta | None
    backup_is_fresh: bool


def standing(application: Application) -> Standing:
    now = application.clock.now()
    with application.database.reading() as session:
        due = (Delivery.state == PLANNED) & (Delivery.due_at <= now)
        query = select(Delivery.channel, func.count(), func.min(Delivery.due_at)).where(due)
        found = {
            channel: (count, oldest)
            for channel, count, oldest in session.execute(query.group_by(Delivery.channel))
        }
        states = dict(
            session.execute(
                select(Delivery.state, func.count())
                .where(Delivery.state.in_((HELD, UNSURE)))
                .group_by(Delivery.state)
            ).all()
        )
        closed = list(closed_channels(session, now))
        newest = change_log.newest(session)
    kept = backup_queries.standing(application)
    waits = sorted(wait.waited for wait in list(application.database.turn.waits))
    held = max((wait.held for wait in list(application.database.turn.waits)), default=0.0)
    return Standing(
        [ChannelQueue(channel, *found.get(channel, (0, None))) for channel in CHANNELS],
        states.get(HELD, 0),
        states.get(UNSURE, 0),
        closed,
        newest - application.snapshot_version() if application.snapshot_version() else 0,
        WriteWaits(application.database.turn.count, waits[int(0.9 * len(waits))] if waits else 0.0, held),
        free_bytes(application),
        least_bytes(application),
        application.database.path.stat().st_size,
        newest_revision(),
        kept.age,
        kept.is_fresh,
    )
