"""Taking people and everything about them out for good."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import delete, func, or_, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.services.application import Application
from loyalbell.storage import erased_addresses
from loyalbell.storage.consent import address_of
from loyalbell.storage.erased_addresses import REASON
from loyalbell.storage.schema import Person, Reply, SignUp, Suppression
from loyalbell.storage.webhook_events import announce


def erase(application: Application, person_ids: Sequence[int], by: str) -> int:
    """Takes people and everything about them out for good.

    Their addresses stay suppressed. Returns how many.
    """
    with application.database.transaction() as session:
        return erase_in(application, session, person_ids, by)


def erase_in(application: Application, session: Session, person_ids: Sequence[int], by: str) -> int:
    now, count = application.clock.now(), 0
    for start in range(0, len(person_ids), 500):
        some = list(person_ids[start : start + 500])
        people = list(session.scalars(select(Person).where(Person.id.in_(some))))
        for person in people:
            _keep_suppressed(session, person, now, by)
        session.flush()
        emails = {person.email.lower() for person in people if person.email}
        session.execute(
            delete(SignUp).where(or_(SignUp.person_id.in_(some), func.lower(SignUp.email).in_(emails)))
        )
        session.execute(delete(Person).where(Person.id.in_(some)))
        count += len(people)
    session.expunge_all()
    if count:
        application.note(session, by, "erased customers", people=count)
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
