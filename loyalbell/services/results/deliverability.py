"""How well email arrives at each receiving domain, with the limits that a healthy sender keeps."""

from dataclasses import dataclass

from sqlalchemy import ColumnElement, Integer, cast, exists, func, select

from loyalbell.core.policy.delivery_state import BOUNCED, SENT
from loyalbell.services.application import Application
from loyalbell.services.results.by_a_person import did
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, DeliveryEvent

MOST_REFUSED, MOST_COMPLAINTS = 0.02, 0.001
"""Beyond one in fifty refused, or one complaint in a thousand, receivers begin to doubt a sender (common
practice, no source).
"""
FEWEST = 20
"""Below so many messages a share says nothing (a decision of ours)."""
MOST_DOMAINS = 40


@dataclass(frozen=True)
class DomainFigures:
    """Messages to one domain: taken or refused there, and of those taken how many were opened, led to an
    unsubscribe, or were reported as unwanted.
    """

    domain: str
    taken: int
    refused: int
    opened: int
    unsubscribed: int
    complained: int

    @property
    def messages(self) -> int:
        return self.taken + self.refused

    @property
    def refused_share(self) -> float:
        return self.refused / self.messages if self.messages else 0.0

    @property
    def opened_share(self) -> float | None:
        return self.opened / self.taken if self.taken else None

    @property
    def is_bad(self) -> bool:
        """Whether more are refused or reported than a healthy sender has, with enough messages to tell."""
        if self.messages < FEWEST:
            return False
        return self.refused_share > MOST_REFUSED or self.complained > max(1, MOST_COMPLAINTS * self.taken)


def by_domain(application: Application, days: Days) -> list[DomainFigures]:
    """The domains that got the most email in some days, the largest first."""
    domain = func.lower(func.substr(Delivery.address, func.instr(Delivery.address, "@") + 1)).label("domain")

    def counted(kind: str) -> ColumnElement[int]:
        is_there = exists().where(DeliveryEvent.delivery_id == Delivery.id, did(kind))
        return func.sum(cast((Delivery.state == SENT) & is_there, Integer))

    query = (
        select(
            domain,
            func.sum(cast(Delivery.state == SENT, Integer)),
            func.sum(cast(Delivery.state == BOUNCED, Integer)),
            counted("opened"),
            counted("refused"),
            counted("complained"),
        )
        .where(
            Delivery.channel == "email",
            Delivery.state.in_((SENT, BOUNCED)),
            Delivery.address.contains("@"),
            func.coalesce(Delivery.sent_at, Delivery.handed_at).between(*days.instants),
        )
        .group_by(domain)
        .order_by(func.count().desc())
        .limit(MOST_DOMAINS)
    )
    with application.database.reading() as session:
        return [DomainFigures(*row) for row in session.execute(query)]
