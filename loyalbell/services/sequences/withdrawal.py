"""Messages of a sequence that wait with it while it is paused."""

from sqlalchemy import ColumnElement
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import PAUSED
from loyalbell.services.delivery.outbox import become_all
from loyalbell.storage.schema import Delivery


def withdraw(session: Session, sequence_id: int) -> None:
    """Messages planned but not handed over wait with the sequence."""
    become_all(session, deliveries_of(sequence_id), PAUSED)


def deliveries_of(sequence_id: int) -> ColumnElement[bool]:
    return (Delivery.origin_kind == "sequence") & (Delivery.origin_id == sequence_id)
