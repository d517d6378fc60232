"""Segments, letterheads, messages and their versions, and the links a version carries."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.store.tables.base import Base


class Segment(Base):
    __tablename__ = "segment"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    rule: Mapped[dict[str, Any]]
    changed_at: Mapped[datetime]
    by: Mapped[str | None]
    archived_at: Mapped[datetime | None]


class Letterhead(Base):
    """Header, footer and colours that wrap every email."""

    __tablename__ = "letterhead"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    header: Mapped[str]
    footer: Mapped[str]
    ink: Mapped[str]
    accent: Mapped[str]


class Message(Base):
    __tablename__ = "message"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    changed_at: Mapped[datetime]


class MessageVersion(Base):
    """What a message said at one time. Versions are never changed, only followed by others."""

    __tablename__ = "message_version"
    __table_args__ = (UniqueConstraint("message_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    message_id: Mapped[int] = mapped_column(ForeignKey("message.id", ondelete="CASCADE"))
    number: Mapped[int]
    content: Mapped[dict[str, Any]]
    made_at: Mapped[datetime]
    by: Mapped[str | None]
