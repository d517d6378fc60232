"""What customers write and ask for themselves: replies, preferences, sign-ups."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class Reply(Base):
    """Something that came in, or an answer of ours (``inward`` false).

    ``kind``: answer, stop, start, help, auto-reply. ``state``: new, open, done. ``network_id`` keeps it from
    coming in twice.
    """

    __tablename__ = "reply"
    __table_args__ = (
        UniqueConstraint("channel", "network_id"),
        Index("ix_reply_state", "state", "at"),
        Index("ix_reply_channel_address", "channel", "address"),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    channel: Mapped[str]
    network_id: Mapped[str]
    address: Mapped[str]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    delivery_id: Mapped[int | None] = mapped_column(
        ForeignKey("delivery.id", ondelete="SET NULL"), index=True
    )
    inward: Mapped[bool] = mapped_column(default=True)
    at: Mapped[datetime]
    subject: Mapped[str | None]
    text: Mapped[str]
    kind: Mapped[str]
    state: Mapped[str]
    assigned_to: Mapped[int | None] = mapped_column(ForeignKey("user.id", ondelete="SET NULL"))
    done_at: Mapped[datetime | None]
    by: Mapped[str | None]


class CannedAnswer(Base):
    __tablename__ = "canned_answer"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    text: Mapped[str]


class Preference(Base):
    """How a person wants to hear from us.

    ``token`` is the address of their page; ``often``: any, weekly, monthly.
    """

    __tablename__ = "preference"

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), unique=True)
    token: Mapped[str] = mapped_column(unique=True)
    often: Mapped[str] = mapped_column(default="any")
    paused_until: Mapped[datetime | None]


class SignUp(Base):
    """Somebody who filled in the sign-up form and has not confirmed yet, or has."""

    __tablename__ = "sign_up"

    id: Mapped[int] = mapped_column(primary_key=True)
    token: Mapped[str] = mapped_column(unique=True)
    email: Mapped[str] = mapped_column(index=True)
    mailbox: Mapped[str] = mapped_column(server_default="", index=True)
    answers: Mapped[dict[str, Any]]
    at: Mapped[datetime]
    ask_at: Mapped[datetime | None] = mapped_column(index=True)
    confirmed_at: Mapped[datetime | None]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id", ondelete="SET NULL"))
