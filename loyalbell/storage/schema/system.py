"""The shop itself, who may sign in, and the housekeeping of the running program."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class Shop(Base):
    """The one shop of this book. ``public_url`` is where customers' links lead."""

    __tablename__ = "shop"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    zone: Mapped[str]
    currency: Mapped[str]
    country: Mapped[str]
    postal_address: Mapped[str]
    public_url: Mapped[str]
    sender_name: Mapped[str]
    sender_email: Mapped[str]
    smtp_host: Mapped[str]
    smtp_port: Mapped[int]
    ringing: Mapped[bool] = mapped_column(default=True)


class User(Base):
    __tablename__ = "user"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    email: Mapped[str] = mapped_column(unique=True)
    password_hash: Mapped[str]
    role: Mapped[str]


class Session(Base):
    """A signed-in browser, or one that is about to sign in (``user_id`` missing)."""

    __tablename__ = "session"

    id: Mapped[int] = mapped_column(primary_key=True)
    token_hash: Mapped[str] = mapped_column(unique=True)
    csrf: Mapped[str]
    user_id: Mapped[int | None] = mapped_column(ForeignKey("user.id", ondelete="CASCADE"))
    expires_at: Mapped[datetime]


class Setting(Base):
    """A group of settings by its name, as JSON."""

    __tablename__ = "setting"

    name: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[dict[str, Any]]


class UnsavedDraft(Base):
    """What somebody is writing and has not saved: nothing typed is lost.

    ``about`` is the id of the message or sequence, or ``new-…`` of one not saved yet. ``base`` stands for
    what was saved when the writing began (``services/unsaved.py``). No ``content``: it has been saved or
    thrown away.
    """

    __tablename__ = "unsaved_draft"
    __table_args__ = (UniqueConstraint("user_id", "kind", "about"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    user_id: Mapped[int] = mapped_column(ForeignKey("user.id", ondelete="CASCADE"))
    kind: Mapped[str]
    about: Mapped[str]
    base: Mapped[str]
    content: Mapped[dict[str, Any] | None]
    at: Mapped[datetime]


class LogEntry(Base):
    """Who did what, when: the audit log."""

    __tablename__ = "log_entry"

    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
    act: Mapped[str]
    detail: Mapped[dict[str, Any]]


class ClockSetting(Base):
    """The demo clock's instant; no row means the time of day."""

    __tablename__ = "clock"

    id: Mapped[int] = mapped_column(primary_key=True)
    instant: Mapped[datetime]


class LeaderLease(Base):
    """Which process may tick. There is one row, and its holder says when it was last alive.

    ``number`` is the fencing number: it grows whenever the lease is taken, and who holds an older one writes
    nothing any more.
    """

    __tablename__ = "leader_lease"

    id: Mapped[int] = mapped_column(primary_key=True)
    holder: Mapped[str]
    pid: Mapped[int]
    seen_at: Mapped[datetime]
    number: Mapped[int] = mapped_column(default=0, server_default="0")


class ChannelCircuit(Base):
    """How a channel stands with its network (``core/policy/circuit_breaker.py``); no row: as it should.

    ``shape`` is the refusal that many shared, by which one more of the kind is known; ``believed`` one that a
    person has taken to be true of the addresses.
    """

    __tablename__ = "channel_circuit"

    channel: Mapped[str] = mapped_column(primary_key=True)
    since: Mapped[datetime | None]
    words: Mapped[str] = mapped_column(default="", server_default="")
    try_at: Mapped[datetime | None]
    failures: Mapped[int] = mapped_column(default=0, server_default="0")
    most: Mapped[int | None]
    shape: Mapped[str] = mapped_column(default="", server_default="")
    believed: Mapped[str] = mapped_column(default="", server_default="")


class ChangeNote(Base):
    """The change log that the snapshot follows: rows of a part, by id, that were written or taken out.

    Without ``low`` and ``high`` the whole part is to be read again.
    """

    __tablename__ = "change_log"
    __table_args__ = {"sqlite_autoincrement": True}

    id: Mapped[int] = mapped_column(primary_key=True)
    part: Mapped[str]
    low: Mapped[int | None]
    high: Mapped[int | None]
