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
    """Empty where none has been chosen yet."""
    role: Mapped[str]
    departments: Mapped[list[Any]] = mapped_column(default=list)
    """Ids of those whose sequences alone the person may change; empty for all."""
    invited_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    second_factor: Mapped[str] = mapped_column(default="")
    """The sealed secret of the codes (RFC 6238); empty where passwords do."""
    recovery: Mapped[list[Any]] = mapped_column(default=list)
    last_code: Mapped[int] = mapped_column(default=0)
    """The 30-second step whose code was used last: no code is taken twice."""


class AccountLink(Base):
    """A link mailed to somebody to choose a password: once, until ``expires_at``."""

    __tablename__ = "account_link"

    id: Mapped[int] = mapped_column(primary_key=True)
    user_id: Mapped[int] = mapped_column(ForeignKey("user.id", ondelete="CASCADE"), index=True)
    purpose: Mapped[str]
    token_hash: Mapped[str] = mapped_column(unique=True)
    made_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    used_at: Mapped[datetime | None]


class Session(Base):
    """A signed-in browser. ``waits_for_code``: the password was right, the second factor is still asked."""

    __tablename__ = "session"

    id: Mapped[int] = mapped_column(primary_key=True)
    token_hash: Mapped[str] = mapped_column(unique=True)
    csrf: Mapped[str]
    user_id: Mapped[int | None] = mapped_column(ForeignKey("user.id", ondelete="CASCADE"))
    expires_at: Mapped[datetime]
    made_at: Mapped[datetime | None]
    source: Mapped[str] = mapped_column(default="")
    browser: Mapped[str] = mapped_column(default="")
    waits_for_code: Mapped[bool] = mapped_column(default=False)


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
    """Who did what, when, from where: the audit log. Rows are only added (triggers refuse the rest); each
    carries the hash of itself and of the one before (``storage/log_chain.py``).
    """

    __tablename__ = "log_entry"

    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(index=True)
    by: Mapped[str]
    act: Mapped[str]
    detail: Mapped[dict[str, Any]]
    source: Mapped[str] = mapped_column(default="")
    chain: Mapped[str] = mapped_column(default="")


class LogStart(Base):
    """One row where old entries were deleted: up to which, and the hash of the last of them."""

    __tablename__ = "log_start"

    id: Mapped[int] = mapped_column(primary_key=True)
    up_to: Mapped[int]
    chain: Mapped[str]


class ApprovalRequest(Base):
    """Somebody asks a second person to send or publish. ``detail`` holds what was chosen."""

    __tablename__ = "approval_request"

    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    about_id: Mapped[int]
    user_id: Mapped[int | None] = mapped_column(ForeignKey("user.id", ondelete="SET NULL"))
    by: Mapped[str]
    at: Mapped[datetime]
    detail: Mapped[dict[str, Any]]
    closed_at: Mapped[datetime | None]
    closed_by: Mapped[str] = mapped_column(default="")
    outcome: Mapped[str] = mapped_column(default="")
    words: Mapped[str] = mapped_column(default="")


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
