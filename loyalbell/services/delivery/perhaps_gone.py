"""After a restore: what was due before it may have been sent by the book that was lost. Nobody gets it twice:
it becomes *unsure*, so that the network is asked, or a person.
"""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import IN_FLIGHT, PLANNED, UNSURE
from loyalbell.services.application import Application
from loyalbell.services.delivery.message_keys import give_keys
from loyalbell.services.delivery.outbox import become
from loyalbell.services.settings.channels import SettingsGroup, loaded
from loyalbell.storage.schema import Delivery

WORDS = "it was due before this book was restored from a backup, and may have been sent"
MANY = 500


class RestoredSettings(SettingsGroup):
    """Up to ``until`` the lost book may have sent what this one still plans.

    ``made_at``: what the book's clock said as the backup was made; ``asked``: messages that were due in
    between as it was restored; ``is_seen``: a person has read what to do. ``asks``: the networks can be
    asked, since both books give a message the same name.
    """

    kept_as = "restored"
    until: datetime | None = None
    made_at: datetime | None = None
    asked: int = 0
    is_seen: bool = True
    asks: bool = True


def until_of(session: Session) -> datetime | None:
    """Up to when another book may have sent what this one plans; ``None`` where it never was restored."""
    return RestoredSettings.load(session).until


def restored(application: Application) -> RestoredSettings:
    return loaded(application, RestoredSettings)


def doubtful_count(application: Application) -> int:
    """How many messages are perhaps sent, of all campaigns and sequences."""
    with application.database.reading() as session:
        return session.scalar(select(func.count()).where(Delivery.state == UNSURE)) or 0


def note_seen(application: Application, by: str) -> None:
    """A person has read what to do after a restore: the card leaves Today."""
    with application.database.transaction() as session:
        RestoredSettings.load(session).model_copy(update={"is_seen": True}).save(session)
        application.note(session, by, "looked at the restored book")


def is_in_doubt(delivery: Delivery, until: datetime | None) -> bool:
    """Whether a delivery that could go now may have gone before. What a person, or the network, has said of
    it since the restore settles it.
    """
    if until is None or delivery.due_at > until:
        return False
    return delivery.decided_at is None or delivery.decided_at < until


def ask_of_all(session: Session, where: ColumnElement[bool], until: datetime) -> None:
    """Everything that fits is in doubt."""
    ids = list(session.scalars(select(Delivery.id).where(where)))
    for start in range(0, len(ids), MANY):
        some = select(Delivery).where(Delivery.id.in_(ids[start : start + MANY]))
        put_in_doubt(session, list(session.scalars(some)))
        session.flush()
        session.expire_all()


def without_doubtful(session: Session, deliveries: Sequence[Delivery]) -> list[Delivery]:
    """Those that may go; the others are put in doubt."""
    until = until_of(session)
    if until is None:
        return list(deliveries)
    doubtful = [delivery for delivery in deliveries if is_in_doubt(delivery, until)]
    put_in_doubt(session, doubtful)
    asked = {delivery.id for delivery in doubtful}
    return [delivery for delivery in deliveries if delivery.id not in asked]


def put_in_doubt(session: Session, deliveries: Sequence[Delivery]) -> None:
    """Planned messages become unsure, under the names by which the network would know them."""
    give_keys(session, deliveries)
    for delivery in deliveries:
        if delivery.state is PLANNED:
            become(delivery, IN_FLIGHT, handed_at=delivery.due_at)
    # the database sees each step
    session.flush()
    for delivery in deliveries:
        become(delivery, UNSURE, detail=WORDS)
