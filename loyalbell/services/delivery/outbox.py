"""Moving deliveries from state to state: the only place where their state is written."""

from typing import Any

from sqlalchemy import ColumnElement, CursorResult, update
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import DeliveryState, check_transition, sources_of
from loyalbell.storage.schema import Delivery


def become(delivery: Delivery, state: DeliveryState, **facts: Any) -> None:
    """Moves one delivery, with what else changes about it. Raises ``ForbiddenTransition``."""
    check_transition(delivery.state, state)
    delivery.state = state
    for name, value in facts.items():
        setattr(delivery, name, value)


def become_all(session: Session, where: ColumnElement[bool], state: DeliveryState, **facts: Any) -> int:
    """Moves every delivery that fits and may come to the state; the others stay. Returns how many moved."""
    from_there = Delivery.state.in_(sources_of(state))
    moved = session.execute(update(Delivery).where(where, from_there).values(state=state, **facts))
    assert isinstance(moved, CursorResult)
    return moved.rowcount
