"""The demo's days as they pass: what the made-up people buy and look at of themselves, and who comes to
their appointment.
"""

import json
from datetime import UTC, datetime, timedelta
from hashlib import blake2b
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.storage.schema import Appointment, Event, Order, OrderLine, Person

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
        """How many have passed before, as the book knows by their numbers."""
        with self.application.database.reading() as session:
            known = {
                number
                for table in (Order, Event)
                for number in session.scalars(select(table.external_id).where(table.external_id.like("F%")))
            }
        last = max((int(str(number)[1:]) for number in known if str(number)[1:].isdecimal()), default=-1)
        return last + 1

    def next_due(self) -> int | None:
        """When the next of them buys, in seconds since 1970; a look at the site shortens no step."""
        return next((int(row["at"]) for row in self.rows[self._at :] if "kind" not in row), None)

    def pass_until(self, now: datetime) -> None:
        """Puts down what has been bought and looked at by now, and settles the appointments that are over."""
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
        for number in range(first, end):
            row = self.rows[number]
            if row["person"] in here and "kind" in row:
                session.add(
                    Event(
                        external_id=f"F{number:07}",
                        person_id=row["person"],
                        at=datetime.fromtimestamp(row["at"], UTC),
                        kind=row["kind"],
                        properties={"page": row["page"]},
                    )
                )
            elif row["person"] in here:
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
