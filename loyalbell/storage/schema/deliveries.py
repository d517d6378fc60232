"""Campaigns, deliveries (one message to one person) and what came of them."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.core.policy.delivery_state import DeliveryState
from loyalbell.storage.schema.base import Base


class Campaign(Base):
    """One message to one audience. ``rule`` is the segment as it was at the start.

    ``channels`` are tried in their order for each person. ``plan`` says to whom not, when and how fast.
    ``state``: draft, scheduled (goes out at ``goes_out_at``), held (``held_because``), sending, sent,
    stopped. ``round_at`` is when its plan has the coming round, which may have been moved. ``people_seen`` is
    the number confirmed.
    """

    __tablename__ = "campaign"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    segment_id: Mapped[int] = mapped_column(ForeignKey("segment.id"))
    message_id: Mapped[int] = mapped_column(ForeignKey("message.id"))
    message_version_id: Mapped[int | None] = mapped_column(ForeignKey("message_version.id"))
    rule: Mapped[dict[str, Any] | None]
    channels: Mapped[list[Any]] = mapped_column(default=lambda: ["email"], server_default='["email"]')
    plan: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    goes_out_at: Mapped[datetime | None]
    round_at: Mapped[datetime | None]
    held_because: Mapped[str | None]
    people_seen: Mapped[int | None]
    state: Mapped[str]
    made_at: Mapped[datetime]
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    by: Mapped[str | None]


class Delivery(Base):
    """One message to one person, with its whole story. ``parts`` and ``cost_minor`` are of texts.

    The unique key is what keeps anyone from getting the same message twice: a
    delivery is written before anything is handed to a channel, and handed over once.
    ``decided_at``: when a person, or the network's word, last let it go. ``message_key``: by what name the
    network knows it (``services/delivery/message_keys.py``). ``shown``: of each section of its writing in
    turn whether the person is shown it (``core/messages/sections.py``). ``first_due_at``: when it might first
    have gone, once it was put off by a limit or by the network; its patience counts from then.
    ``handed_at`` is empty while it is in hand and has not been handed over yet.
    """

    __tablename__ = "delivery"
    __table_args__ = (
        UniqueConstraint("origin_kind", "origin_id", "step", "occurrence", "person_id"),
        Index("ix_delivery_state_due", "state", "due_at"),
        Index("ix_delivery_person", "person_id", "id"),
        Index("ix_delivery_message_key", "message_key", sqlite_where=text("message_key != ''")),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    origin_kind: Mapped[str]
    origin_id: Mapped[int]
    step: Mapped[str] = mapped_column(default="")
    occurrence: Mapped[str] = mapped_column(default="")
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    message_version_id: Mapped[int] = mapped_column(ForeignKey("message_version.id"))
    channel: Mapped[str]
    address: Mapped[str | None]
    token: Mapped[str] = mapped_column(unique=True)
    state: Mapped[DeliveryState]
    cause: Mapped[str | None]
    detail: Mapped[str | None]
    due_at: Mapped[datetime]
    first_due_at: Mapped[datetime | None]
    attempts: Mapped[int] = mapped_column(default=0)
    handed_at: Mapped[datetime | None]
    sent_at: Mapped[datetime | None]
    delivered_at: Mapped[datetime | None]
    language: Mapped[str] = mapped_column(default="", server_default="")
    held_batch_id: Mapped[int | None]
    shown: Mapped[str] = mapped_column(default="", server_default="")
    decided_at: Mapped[datetime | None]
    message_key: Mapped[str] = mapped_column(default="", server_default="")
    parts: Mapped[int | None]
    cost_minor: Mapped[int | None]


class DeliveryEvent(Base):
    """Something that came of a delivery: opened, clicked, refused, bounced."""

    __tablename__ = "delivery_event"

    id: Mapped[int] = mapped_column(primary_key=True)
    delivery_id: Mapped[int] = mapped_column(ForeignKey("delivery.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    at: Mapped[datetime]
    link: Mapped[int | None]
    detail: Mapped[str | None]
