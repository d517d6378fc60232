"""Customers, the ids other programs know them by, whom they care for, and what they agreed to."""

import re
from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base

FAMILY_FIRST_LETTERS = re.compile(r"[\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af]")
"""Kana, Han and Hangul."""


class Person(Base):
    """One customer. ``birthday_year`` may be missing while day and month are known.

    ``email_given`` is the address as it was written, where that differs from ``email``.

    ``before_…`` sum up purchases of before this book, of which there are no orders: how many, for how much in
    all, the first and the last of them.
    """

    __tablename__ = "person"

    id: Mapped[int] = mapped_column(primary_key=True)
    first_name: Mapped[str | None]
    last_name: Mapped[str | None]
    email: Mapped[str | None] = mapped_column(index=True)
    phone: Mapped[str | None] = mapped_column(index=True)
    chat_handle: Mapped[str | None]
    language: Mapped[str | None]
    zone: Mapped[str | None]
    street: Mapped[str | None]
    city: Mapped[str | None]
    region: Mapped[str | None]
    postal_code: Mapped[str | None]
    birthday_month: Mapped[int | None]
    birthday_day: Mapped[int | None]
    birthday_year: Mapped[int | None]
    joined_at: Mapped[datetime | None]
    closed_at: Mapped[datetime | None]
    deceased_at: Mapped[datetime | None]
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))
    email_given: Mapped[str | None]
    before_orders: Mapped[int | None]
    before_minor: Mapped[int | None]
    before_first_at: Mapped[datetime | None]
    before_last_at: Mapped[datetime | None]

    @property
    def name(self) -> str:
        """First and last name, or an empty string; the family name first where the name is written so."""
        parts = [part for part in (self.first_name, self.last_name) if part]
        return " ".join(parts[::-1] if FAMILY_FIRST_LETTERS.search("".join(parts)) else parts)


class ExternalId(Base):
    """The id under which another program knows a person."""

    __tablename__ = "external_id"
    __table_args__ = (UniqueConstraint("source", "value"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    source: Mapped[str]
    value: Mapped[str]
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)


class Companion(Base):
    """A person or animal that a customer cares for."""

    __tablename__ = "companion"

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    kind: Mapped[str | None]
    birthday_month: Mapped[int | None]
    birthday_day: Mapped[int | None]
    birthday_year: Mapped[int | None]


class ConsentEntry(Base):
    """One line of the append-only consent log; the newest line per person and channel holds."""

    __tablename__ = "consent_entry"
    __table_args__ = (Index("ix_consent_entry_person_channel", "person_id", "channel", "id"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    channel: Mapped[str]
    state: Mapped[str]
    at: Mapped[datetime]
    source: Mapped[str]
    wording: Mapped[str | None]
    by: Mapped[str | None]
    evidence: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """Where the customer gave it themselves: page, version of the form, language, asked and confirmed."""
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Suppression(Base):
    """An address that must not be written to on a channel, whatever was agreed."""

    __tablename__ = "suppression"
    __table_args__ = (Index("ix_suppression_channel_address", "channel", "address"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    channel: Mapped[str]
    address: Mapped[str]
    reason: Mapped[str]
    at: Mapped[datetime]
    lifted_at: Mapped[datetime | None]
    by: Mapped[str | None]
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))
