"""A place waits for its message: it goes on once that has left, or has been kept back for good.

(Architecture of the house, *A place waits for its message*.) The book is asked at every tick; so nothing has
to remember to tell the place, whoever settled the message: a network's answer, a receipt, a person.
"""

from datetime import datetime

from sqlalchemy import Integer, Update, case, exists, func, select, text, type_coerce, update
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import BOUNCED, FAILED, SENT, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.timing import LATE, TOO_LATE
from loyalbell.core.sequences.walk import LEFT, PASSED, UNDER_WAY
from loyalbell.storage.schema import Delivery, Enrolment
from loyalbell.storage.schema.base import Instant

SETTLED = (SENT, BOUNCED, WITHHELD, FAILED)
ON_ITS_WAY = text("enrolment.awaits = 'on its way'")
"""In the words of the partial index, which a bound value would not meet."""
OF_ITS_STEP = (
    (Delivery.origin_kind == SEQUENCE)
    & (Delivery.origin_id == Enrolment.sequence_id)
    & (Delivery.step == Enrolment.step)
    & (Delivery.occurrence == Enrolment.key)
    & (Delivery.person_id == Enrolment.person_id)
)


def any_may_go_on(session: Session) -> bool:
    """Whether the message of somebody who waits for it is settled, or is not there."""
    open_ones = exists().where(OF_ITS_STEP, Delivery.state.not_in(SETTLED))
    query = select(Enrolment.id).where(ON_ITS_WAY, Enrolment.state == UNDER_WAY, ~open_ones)
    return session.scalar(query.limit(1)) is not None


def let_go_on(session: Session, now: datetime) -> None:
    """Everybody whose message is settled may go on, their later waits counted from when it really left.

    Whose message was too late leaves: what follows leans on what they did not get. One that left within a
    quarter of an hour of its time counts as punctual: the wall-clock time is kept.
    """
    for change in (_settled(int(now.timestamp())), _too_late(now), _missing(now)):
        session.execute(change.execution_options(synchronize_session=False))


def _settled(second: int) -> Update:
    due, sent_at = type_coerce(Delivery.due_at, Integer), type_coerce(Delivery.sent_at, Integer)
    left = func.coalesce(sent_at, second)
    at = case((left - due <= LATE, due), else_=left)
    got = Delivery.state == SENT
    kept_from = case((due >= second - LATE, due), else_=second)
    sent = case((Enrolment.sent == "", Enrolment.step), else_=Enrolment.sent + "," + Enrolment.step)
    return (
        update(Enrolment)
        .where(ON_ITS_WAY, Enrolment.state == UNDER_WAY, OF_ITS_STEP, Delivery.state.in_(SETTLED))
        .values(
            awaits=PASSED,
            due_at=type_coerce(case((got, at), else_=kept_from), Instant()),
            sent=case((got, sent), else_=Enrolment.sent),
        )
    )


def _too_late(now: datetime) -> Update:
    late = (Delivery.state == WITHHELD) & (Delivery.cause == TOO_LATE)
    return (
        update(Enrolment)
        .where(Enrolment.awaits == PASSED, Enrolment.state == UNDER_WAY, OF_ITS_STEP, late)
        .values(state=LEFT, cause=TOO_LATE, due_at=None, ended_at=now, awaits="")
    )


def _missing(now: datetime) -> Update:
    """Those whose message is not there: it was deleted, or never made."""
    return (
        update(Enrolment)
        .where(ON_ITS_WAY, Enrolment.state == UNDER_WAY, ~exists().where(OF_ITS_STEP))
        .values(awaits=PASSED, due_at=now)
    )
