"""Messages of a sequence that wait with it while it is paused."""

from sqlalchemy import ColumnElement
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import PAUSED
from loyalbell.services.delivery.outbox import become_all
from loyalbell.storage.schema import Delivery, Enrolment


def withdraw(session: Session, sequence_id: int) -> None:
    """Messages planned but not handed over wait with the sequence."""
    become_all(session, deliveries_of(sequence_id), PAUSED)


def delivery_at(enrolment: Enrolment) -> ColumnElement[bool]:
    """The message of the step at which somebody stands."""
    return (
        deliveries_of(enrolment.sequence_id)
        & (Delivery.person_id == enrolment.person_id)
        & (Delivery.occurrence == enrolment.key)
        & (Delivery.step == (enrolment.step or ""))
    )


def deliveries_of(sequence_id: int) -> ColumnElement[bool]:
    return (Delivery.origin_kind == "sequence") & (Delivery.origin_id == sequence_id)
