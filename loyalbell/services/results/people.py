"""The people behind a figure of a campaign or sequence, each once."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import SENT, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE, Origin
from loyalbell.services.application import Application
from loyalbell.services.results.by_a_person import did
from loyalbell.services.results.credits import credits_of
from loyalbell.services.results.ranges import Days
from loyalbell.services.sequences.places import instant
from loyalbell.storage.schema import Delivery, DeliveryEvent, Enrolment, Person

FIGURES = {
    "delivered": "Delivered",
    "opened": "Opened",
    "clicked": "Clicked",
    "replied": "Replied",
    "ordered": "Ordered",
    "refused": "Unsubscribed",
    "withheld": "Not sent",
    "held back": "Held back",
}


@dataclass(frozen=True)
class BehindFigure:
    """Everybody behind it, the newest first; ``shown`` are (id, name, when) of one page."""

    ids: list[int]
    shown: list[tuple[int, str, datetime]]


def behind(
    application: Application, origin: Origin, days: Days, figure: str, step: str, first: int, count: int
) -> BehindFigure:
    """``step`` may be empty for all steps together; ``first`` and ``count`` choose a page."""
    with application.database.reading() as session:
        if figure == "held back" and origin[0] == SEQUENCE:
            when = _held_back(session, origin[1], days)
        elif figure == "ordered":
            when = _ordered(application, session, origin, days, step)
        else:
            when = _by_deliveries(session, origin, days, figure, step)
        ids = sorted(when, key=lambda one: (-when[one].timestamp(), one))
        page = ids[first : first + count]
        people = {one.id: one for one in session.scalars(select(Person).where(Person.id.in_(page)))}
    shown = [(one, people[one].name or people[one].email or f"customer {one}", when[one]) for one in page]
    return BehindFigure(ids, shown)


def _held_back(session: Session, sequence_id: int, days: Days) -> dict[int, datetime]:
    query = select(Enrolment.person_id, func.max(Enrolment.entered_at)).where(
        Enrolment.sequence_id == sequence_id,
        Enrolment.state == "held back",
        Enrolment.entered_at.between(*days.instants),
    )
    return {person: at for person, at in session.execute(query.group_by(Enrolment.person_id))}


def _by_deliveries(
    session: Session, origin: Origin, days: Days, figure: str, step: str
) -> dict[int, datetime]:
    mine = (Delivery.origin_kind == origin[0]) & (Delivery.origin_id == origin[1])
    if step:
        mine &= Delivery.step == step
    if figure in ("withheld", "held back"):
        held = Delivery.cause == "held back"
        query = select(Delivery.person_id, func.max(Delivery.due_at)).where(
            mine,
            Delivery.state == WITHHELD,
            held if figure == "held back" else ~held,
            Delivery.due_at.between(*days.instants),
        )
        return {person: at for person, at in session.execute(query.group_by(Delivery.person_id))}
    sent = mine & (Delivery.state == SENT) & Delivery.sent_at.between(*days.instants)
    if figure == "delivered":
        got = select(Delivery.person_id, func.max(Delivery.sent_at)).where(sent)
        rows = session.execute(got.group_by(Delivery.person_id)).all()
        return {person: at for person, at in rows if at is not None}
    query = (
        select(Delivery.person_id, func.max(DeliveryEvent.at))
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(sent, did(figure))
    )
    return {person: at for person, at in session.execute(query.group_by(Delivery.person_id))}


def _ordered(
    application: Application, session: Session, origin: Origin, days: Days, step: str
) -> dict[int, datetime]:
    query = select(Delivery.id).where(
        Delivery.origin_kind == origin[0],
        Delivery.origin_id == origin[1],
        Delivery.sent_at.between(*days.instants),
    )
    if step:
        query = query.where(Delivery.step == step)
    found = credits_of(application).of_deliveries(np.array(session.scalars(query).all(), dtype=np.int64))
    ids = application.snapshot().people.ids[found.person].tolist()
    return {person: instant(at) for person, at in zip(ids, found.at.tolist(), strict=True)}
