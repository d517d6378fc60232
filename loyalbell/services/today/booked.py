"""Whom the front desk expects today."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.services.application import Application
from loyalbell.storage.schema import Appointment, Item, Person

MOST_BOOKED = 40


@dataclass(frozen=True)
class Booked:
    """One appointment of a day."""

    person_id: int
    name: str
    at: datetime
    what: str
    state: str


def booked_today(application: Application) -> list[Booked]:
    """The appointments of the shop's day that were not cancelled, in their order."""
    zone, now = application.the_shop().zone, application.clock.now()
    today = local_day(now, zone)
    begins, ends = start_of_day(today, zone), start_of_day(today + timedelta(days=1), zone)
    query = (
        select(Appointment, Person, Item.name)
        .join(Person, Person.id == Appointment.person_id)
        .outerjoin(Item, Item.id == Appointment.item_id)
        .where(Appointment.starts_at >= begins, Appointment.starts_at < ends)
        .where(Appointment.state != "cancelled")
        .order_by(Appointment.starts_at)
        .limit(MOST_BOOKED)
    )
    with application.database.reading() as session:
        return [
            Booked(
                person.id,
                person.name or person.email or "no name on file",
                one.starts_at,
                what or "",
                one.state,
            )
            for one, person, what in session.execute(query)
        ]
