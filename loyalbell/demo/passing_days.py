"""The demo's days as they pass: what the made-up people buy of themselves, and who comes to their
appointment.
"""

import json
from datetime import UTC, datetime, timedelta
from hashlib import blake2b
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.storage.schema import Appointment, Order, OrderLine, Person

TO_COME = "to-come.json"
MISSED = 12
"""Of 100 appointments so many are missed."""
SETTLED_AFTER = timedelta(hours=1)


class PassingDays:
    """Lets pass what is written beside the book; without such a file nothing happens by itself."""

    def __init__(self, application: Application) -> None:
        self.application = application
        file = application.data / TO_COME
        self.rows: list[dict[str, Any]] = (
            json.loads(file.read_text(encoding="utf-8")) if file.exists() else []
        )
        self._at = self._passed()

    def _passed(self) -> int:
        """How many have been rung up before, as the book knows by their numbers."""
        with self.application.database.reading() as session:
            known = set(session.scalars(select(Order.external_id).where(Order.external_id.like("F%"))))
        return next((at for at in range(len(self.rows)) if f"F{at:07}" not in known), len(self.rows))

    def next_due(self) -> int | None:
        """When the next of them buys, in seconds since 1970."""
        return int(self.rows[self._at]["at"]) if self._at < len(self.rows) else None

    def pass_until(self, now: datetime) -> None:
        """Rings up what has been bought by now, and settles the appointments that are over."""
        end = self._at
        while end < len(self.rows) and self.rows[end]["at"] <= now.timestamp():
            end += 1
        with self.application.database.reading() as session:
            over = list(
                session.scalars(
                    select(Appointment.id).where(
                        Appointment.state == "booked", Appointment.starts_at <= now - SETTLED_AFTER
                    )
                )
            )
        if end == self._at and not over:
            return
        with self.application.database.transaction() as session:
            self._ring_up(session, self._at, end)
            self._settle(session, over)
        self._at = end

    def _ring_up(self, session: Session, first: int, end: int) -> None:
        here = set(
            session.scalars(
                select(Person.id).where(Person.id.in_({row["person"] for row in self.rows[first:end]}))
            )
        )
        made = []
        for number in range(first, end):
            row = self.rows[number]
            if row["person"] in here:
                order = Order(
                    external_id=f"F{number:07}",
                    person_id=row["person"],
                    department_id=row["department"],
                    placed_at=datetime.fromtimestamp(row["at"], UTC),
                    total_minor=sum(cents for _, _, cents in row["lines"]),
                    currency=self.application.the_shop().currency,
                )
                session.add(order)
                session.flush()
                made.append(order.id)
                session.execute(
                    insert(OrderLine),
                    [
                        {
                            "order_id": order.id,
                            "item_id": item + 1,
                            "quantity": quantity,
                            "total_minor": cents,
                        }
                        for item, quantity, cents in row["lines"]
                    ],
                )

    def _settle(self, session: Session, over: list[int]) -> None:
        for one in session.scalars(select(Appointment).where(Appointment.id.in_(over))):
            drawn = blake2b(str(one.id).encode(), digest_size=2).digest()
            one.state = "missed" if int.from_bytes(drawn, "big") % 100 < MISSED else "kept"
            one.settled_at = one.starts_at + SETTLED_AFTER
