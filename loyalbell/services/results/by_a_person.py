"""What people did with messages, as figures count it: a picture fetched by a machine is nobody's opening."""

from sqlalchemy import ColumnElement

from loyalbell.core.results.machine_opens import MACHINE
from loyalbell.storage.schema import DeliveryEvent

BY_A_PERSON: ColumnElement[bool] = DeliveryEvent.detail.is_distinct_from(MACHINE)


def did(kind: str) -> ColumnElement[bool]:
    """Whether a response is of this kind, and of a person."""
    return (DeliveryEvent.kind == kind) & BY_A_PERSON
