"""What offers a campaign or sequence gave, which were used, and what that cost."""

from dataclasses import dataclass

from sqlalchemy import func, select

from loyalbell.core.policy.origins import Origin
from loyalbell.services.application import Application
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, Offer, OfferCode, Redemption


@dataclass(frozen=True)
class OfferFigures:
    """Codes ``given`` with messages of some days, how many were ``used``, and on purchases of how much.

    ``cost`` is what the shop gave away at its own cost. Money in minor units.
    """

    offer_id: int
    name: str
    given: int
    used: int
    purchases: int
    cost: int

    @property
    def used_share(self) -> float | None:
        return self.used / self.given if self.given else None


def offers_of(application: Application, origin: Origin, days: Days) -> list[OfferFigures]:
    """The most given first."""
    codes = (
        select(OfferCode.id, OfferCode.offer_id)
        .join(Delivery, Delivery.id == OfferCode.delivery_id)
        .where(
            Delivery.origin_kind == origin[0],
            Delivery.origin_id == origin[1],
            Delivery.sent_at.between(*days.instants),
        )
        .subquery()
    )
    query = (
        select(
            Offer.id,
            Offer.name,
            func.count(codes.c.id.distinct()),
            func.count(Redemption.code_id.distinct()),
            func.coalesce(func.sum(Redemption.purchase_minor), 0),
            func.coalesce(func.sum(Redemption.cost_minor), 0),
        )
        .join(codes, codes.c.offer_id == Offer.id)
        .outerjoin(Redemption, Redemption.code_id == codes.c.id)
        .group_by(Offer.id)
        .order_by(func.count(codes.c.id.distinct()).desc(), Offer.name)
    )
    with application.database.reading() as session:
        return [OfferFigures(*row) for row in session.execute(query)]
