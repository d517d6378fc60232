"""Offers, the codes people hold of them, and what was redeemed."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class Offer(Base):
    """The terms of a benefit. ``terms`` is the offer of the core as JSON."""

    __tablename__ = "offer"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    terms: Mapped[dict[str, Any]]
    made_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    by: Mapped[str | None]
    archived_at: Mapped[datetime | None]


class OfferCode(Base):
    """One person's instance of an offer. ``expires_at`` is the first instant at which it no longer holds.

    ``run`` names the person's way through a sequence that it was given in: one code a person, offer and run.
    """

    __tablename__ = "offer_code"
    __table_args__ = (Index("ix_offer_code_offer_person", "offer_id", "person_id"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    offer_id: Mapped[int] = mapped_column(ForeignKey("offer.id"))
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    delivery_id: Mapped[int | None] = mapped_column(
        ForeignKey("delivery.id", ondelete="SET NULL"), index=True
    )
    code: Mapped[str] = mapped_column(unique=True)
    issued_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]
    uses_left: Mapped[int]
    run: Mapped[str] = mapped_column(default="", server_default="")


class Redemption(Base):
    """A code used at the till: what the purchase came to and what was given, in minor units."""

    __tablename__ = "redemption"

    id: Mapped[int] = mapped_column(primary_key=True)
    code_id: Mapped[int] = mapped_column(ForeignKey("offer_code.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime]
    by: Mapped[str]
    purchase_minor: Mapped[int]
    given_minor: Mapped[int]
    cost_minor: Mapped[int]
    order_id: Mapped[int | None] = mapped_column(ForeignKey("orders.id", ondelete="SET NULL"))
