"""Taking people and everything about them out for good."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import delete, func, or_, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.services.application import Application
from loyalbell.services.customers.own_data import TITLES
from loyalbell.storage import erased_addresses, person_rows
from loyalbell.storage.consent import address_of
from loyalbell.storage.erased_addresses import REASON
from loyalbell.storage.schema import LogEntry, Person, Reply, SignUp, Suppression
from loyalbell.storage.webhook_events import announce

ERASED = "erased customers"


@dataclass(frozen=True)
class Receipt:
    """What an erasure took out: rows by kind, as the log keeps it. It names nobody."""

    number: int
    at: datetime
    by: str
    people: int
    removed: dict[str, int]


def receipt(application: Application, number: int = 0) -> Receipt | None:
    """Of the erasure with this number in the log, or of the newest one."""
    query = select(LogEntry).where(LogEntry.act == ERASED).order_by(LogEntry.id.desc()).limit(1)
    if number:
        query = query.where(LogEntry.id == number)
    with application.database.reading() as session:
        entry = session.scalar(query)
    if entry is None:
        return None
    removed = {
        TITLES.get(name, name): count for name, count in sorted(entry.detail.get("removed", {}).items())
    }
    return Receipt(entry.id, entry.at, entry.by, int(entry.detail.get("people", 0)), removed)


def erase(application: Application, person_ids: Sequence[int], by: str) -> int:
    """Takes people and everything about them out for good.

    Their addresses stay suppressed. Returns how many.
    """
    with application.database.transaction() as session:
        return erase_in(application, session, person_ids, by)


def erase_in(application: Application, session: Session, person_ids: Sequence[int], by: str) -> int:
    now, count = application.clock.now(), 0
    removed = person_rows.counts(session, person_ids)
    for start in range(0, len(person_ids), 500):
        some = list(person_ids[start : start + 500])
        people = list(session.scalars(select(Person).where(Person.id.in_(some))))
        for person in people:
            _keep_suppressed(session, person, now, by)
        session.flush()
        person_rows.delete_traces(session, people)
        emails = {person.email.lower() for person in people if person.email}
        session.execute(
            delete(SignUp).where(or_(SignUp.person_id.in_(some), func.lower(SignUp.email).in_(emails)))
        )
        session.execute(delete(Person).where(Person.id.in_(some)))
        count += len(people)
    session.expunge_all()
    if count:
        application.note(session, by, ERASED, people=count, removed=removed)
        announce(session, "customer.erased", now, people=list(person_ids)[:1_000], count=count)
    return count


def _keep_suppressed(session: Session, person: Person, now: datetime, by: str) -> None:
    for channel in CHANNELS:
        address = address_of(person, channel)
        if not address:
            continue
        # what stood open for nobody on file goes into the hash
        session.execute(
            delete(Suppression).where(
                Suppression.person_id.is_(None),
                Suppression.channel == channel,
                func.lower(Suppression.address) == address.lower(),
            )
        )
        session.execute(
            delete(Reply).where(Reply.channel == channel, func.lower(Reply.address) == address.lower())
        )
        kept = Suppression(channel=channel, address=address, reason=REASON, at=now, by=by)
        erased_addresses.keep(session, kept)
        session.add(kept)
