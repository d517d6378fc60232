"""Which message each order of a person is put down to, and why, in words."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE, Origin
from loyalbell.core.results.attribution import REASON_WORDS, Reason
from loyalbell.services.application import Application
from loyalbell.services.results.credits import credits_of_person
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery


def credited_orders(application: Application, person_id: int) -> dict[int, str]:
    """By order; those that are put down to no message are left out."""
    if person_id not in application.snapshot().people.ids:
        return {}
    credits = credits_of_person(application, person_id)
    if not len(credits.order):
        return {}
    with application.database.reading() as session:
        wanted = Delivery.id.in_(credits.delivery.tolist())
        rows = session.execute(select(Delivery.id, Delivery.origin_kind, Delivery.origin_id).where(wanted))
        origins = {delivery: (kind, number) for delivery, kind, number in rows}
        names = _names(session, set(origins.values()))
    found = {}
    columns = (credits.order.tolist(), credits.delivery.tolist(), credits.reason.tolist())
    for order, delivery, reason in zip(*columns, strict=True):
        name = names.get(origins.get(delivery, ("", 0)))
        if name is not None:
            found[order] = f"“{name}”: {REASON_WORDS[Reason(reason)]}"
    return found


def _names(session: Session, origins: set[Origin]) -> dict[Origin, str]:
    campaigns = select(Campaign.id, Campaign.name).where(
        Campaign.id.in_([number for kind, number in origins if kind == CAMPAIGN])
    )
    sequences = select(schema.Sequence.id, schema.Sequence.name).where(
        schema.Sequence.id.in_([number for kind, number in origins if kind == SEQUENCE])
    )
    found = {(CAMPAIGN, number): name for number, name in session.execute(campaigns)}
    return found | {(SEQUENCE, number): name for number, name in session.execute(sequences)}
