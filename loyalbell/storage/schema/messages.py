"""Segments, letterheads, messages and their versions, and the links a version carries."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base

FONT = "Verdana, Arial, sans-serif"


class Segment(Base):
    __tablename__ = "segment"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    rule: Mapped[dict[str, Any]]
    changed_at: Mapped[datetime]
    by: Mapped[str | None]
    archived_at: Mapped[datetime | None]


class Letterhead(Base):
    """Header, footer, colours, font, width and logo that wrap every email. ``link`` is empty for the colour
    of the words; ``dark_logo_id`` stands in dark mail programs.
    """

    __tablename__ = "letterhead"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    header: Mapped[str]
    footer: Mapped[str]
    ink: Mapped[str]
    accent: Mapped[str]
    paper: Mapped[str] = mapped_column(default="#f5f1e8", server_default="#f5f1e8")
    card: Mapped[str] = mapped_column(default="#ffffff", server_default="#ffffff")
    font: Mapped[str] = mapped_column(default=FONT, server_default=FONT)
    width: Mapped[int] = mapped_column(default=600, server_default="600")
    logo_id: Mapped[int | None] = mapped_column(ForeignKey("gallery_picture.id", ondelete="SET NULL"))
    link: Mapped[str] = mapped_column(default="", server_default="")
    dark_logo_id: Mapped[int | None] = mapped_column(ForeignKey("gallery_picture.id", ondelete="SET NULL"))


class Message(Base):
    """``purpose``: marketing, or service for what people must be told.

    ``hidden`` ones hold what was written once only.
    """

    __tablename__ = "message"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    changed_at: Mapped[datetime]
    purpose: Mapped[str] = mapped_column(default="marketing", server_default="marketing")
    hidden: Mapped[bool] = mapped_column(default=False, server_default="0")


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
    name: Mapped[str | None]


class GalleryPicture(Base):
    """A picture for messages. ``token`` is its public address; ``data`` its bytes, as they are sent out."""

    __tablename__ = "gallery_picture"

    id: Mapped[int] = mapped_column(primary_key=True)
    token: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    alt: Mapped[str]
    kind: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    data: Mapped[bytes]
    made_at: Mapped[datetime]
    by: Mapped[str | None]


class AttachedFile(Base):
    """A file that goes with messages."""

    __tablename__ = "attached_file"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    kind: Mapped[str]
    data: Mapped[bytes]
    made_at: Mapped[datetime]
    by: Mapped[str | None]


class SavedBlock(Base):
    """A block kept to be used in several messages."""

    __tablename__ = "saved_block"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    block: Mapped[dict[str, Any]]
    changed_at: Mapped[datetime]


class OpeningMessage(Base):
    """A chat message that the network allows outside an open conversation.

    ``state``: waiting, approved, refused.
    """

    __tablename__ = "opening_message"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    text: Mapped[str]
    state: Mapped[str]
    changed_at: Mapped[datetime]
