"""Opens and clicks, gathered and written together every fraction of a second: after a campaign they come by
the hundred a second, and each in a transaction of its own would wait for the disk.

What has not been written when the program is killed is lost: a few opens and clicks, no more.
"""

import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from threading import Event

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.origins import PROOF
from loyalbell.core.results.machine_opens import MACHINE, is_machine
from loyalbell.services.clock import Clock
from loyalbell.storage.database import Database
from loyalbell.storage.schema import Delivery, DeliveryEvent
from loyalbell.storage.webhook_events import announce

AT_ONCE, MOST_WAITING = 2_000, 200_000
GATHER_SECONDS = 0.1
SAME = timedelta(minutes=1)
"""A picture that is fetched again within so long is one opening."""


@dataclass(frozen=True)
class Opened:
    """The picture of a message was fetched by a program that calls itself ``agent``."""

    token: str
    agent: str


@dataclass(frozen=True)
class Clicked:
    """``link`` is the number of a link; ``None`` for an item on a card. ``where`` it leads."""

    token: str
    link: int | None
    where: str


Response = Opened | Clicked


class ResponseQueue:
    """Filled by pages, written by one thread; where none runs, whoever fills it writes at once."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self.database, self.clock = database, clock
        self.is_served = False
        self._waiting = deque[Response](maxlen=MOST_WAITING)
        self._arrived = Event()

    def put(self, response: Response) -> None:
        self._waiting.append(response)
        self._arrived.set()

    def settle(self) -> None:
        """Writes where nobody else does."""
        if not self.is_served:
            self.flush()

    def step(self, most_seconds: float) -> None:
        """Waits for some, gathers a little longer, and writes them."""
        if self._arrived.wait(most_seconds):
            time.sleep(GATHER_SECONDS)
            self._arrived.clear()
            self.flush()

    def flush(self) -> int:
        """Writes all that wait. Returns how many there were; a token that nobody was sent counts too."""
        done = 0
        while self._waiting:
            some = [self._waiting.popleft() for _ in range(min(AT_ONCE, len(self._waiting)))]
            with self.database.transaction() as session:
                write(session, some, self.clock.now())
            done += len(some)
        return done


def write(session: Session, responses: Sequence[Response], now: datetime) -> None:
    """Notes each on its delivery; proofs leave no trace."""
    tokens = list({response.token for response in responses})
    found = session.scalars(select(Delivery).where(Delivery.token.in_(tokens)))
    deliveries = {delivery.token: delivery for delivery in found if delivery.origin_kind != PROOF}
    opened = _opened_lately(session, [delivery.id for delivery in deliveries.values()], now)
    for response in responses:
        delivery = deliveries.get(response.token)
        if delivery is None:
            continue
        if isinstance(response, Clicked):
            session.add(
                DeliveryEvent(
                    delivery_id=delivery.id,
                    kind="clicked",
                    at=now,
                    link=response.link,
                    detail=response.where[:500],
                )
            )
            session.flush()
            announce(session, "message.clicked", now, person=delivery.person_id, link=response.where)
            continue
        since = (now - delivery.sent_at).total_seconds() if delivery.sent_at is not None else None
        by = MACHINE if is_machine(response.agent, since) else None
        if (delivery.id, by) not in opened:
            opened.add((delivery.id, by))
            session.add(DeliveryEvent(delivery_id=delivery.id, kind="opened", at=now, detail=by))
    session.flush()


def _opened_lately(session: Session, ids: Sequence[int], now: datetime) -> set[tuple[int, str | None]]:
    """Deliveries and by whom (a machine, or ``None``) they were opened a moment ago."""
    query = (
        select(DeliveryEvent.delivery_id, DeliveryEvent.detail)
        .where(DeliveryEvent.delivery_id.in_(ids), DeliveryEvent.kind == "opened")
        .group_by(DeliveryEvent.delivery_id, DeliveryEvent.detail)
        .having(func.max(DeliveryEvent.at) > now - SAME)
    )
    return {(delivery, by) for delivery, by in session.execute(query)}
