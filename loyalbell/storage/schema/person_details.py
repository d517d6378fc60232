"""What else is known about a person: tags, the shop's own fields, yearly dates, notes, and who changed
what.
"""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base, JsonText


class Tag(Base):
    __tablename__ = "tag"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)


class PersonTag(Base):
    """A person carries a tag from ``at`` until ``removed_at``; tagged again is a new row."""

    __tablename__ = "person_tag"
    __table_args__ = (Index("ix_person_tag_person", "person_id"), Index("ix_person_tag_tag", "tag_id"))

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    tag_id: Mapped[int] = mapped_column(ForeignKey("tag.id", ondelete="CASCADE"))
    at: Mapped[datetime]
    removed_at: Mapped[datetime | None]


class CustomField(Base):
    """A fact the shop itself keeps.

    ``kind`` is text, number, yes or no, date, one choice, several choices.
    """

    __tablename__ = "custom_field"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    choices: Mapped[list[Any]] = mapped_column(default=list)
    made_at: Mapped[datetime]


class FieldValue(Base):
    """What a field held for a person from ``at`` until ``until``. The row without an end is the value now."""

    __tablename__ = "field_value"
    __table_args__ = (
        Index("ix_field_value_person", "person_id"),
        Index("ix_field_value_field", "field_id", "until"),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    field_id: Mapped[int] = mapped_column(ForeignKey("custom_field.id", ondelete="CASCADE"))
    value: Mapped[Any] = mapped_column(JsonText)
    at: Mapped[datetime]
    until: Mapped[datetime | None]


class YearlyDate(Base):
    """A day that comes round every year, by its name; the year it began may be missing."""

    __tablename__ = "yearly_date"
    __table_args__ = (UniqueConstraint("person_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    name: Mapped[str]
    month: Mapped[int]
    day: Mapped[int]
    year: Mapped[int | None]


class Note(Base):
    """What somebody of the shop wrote down about a person."""

    __tablename__ = "note"

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime]
    by: Mapped[str]
    text: Mapped[str]


class PersonChange(Base):
    """Who changed which fact of a person, from what to what."""

    __tablename__ = "person_change"

    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime]
    by: Mapped[str]
    what: Mapped[str]
    before: Mapped[str | None]
    after: Mapped[str | None]


class Merge(Base):
    """Two records that became one. ``snapshot`` holds all that is needed to part them again."""

    __tablename__ = "merge"

    id: Mapped[int] = mapped_column(primary_key=True)
    kept_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    gone_id: Mapped[int]
    at: Mapped[datetime]
    by: Mapped[str]
    snapshot: Mapped[dict[str, Any]]
    undone_at: Mapped[datetime | None]


class NotTheSame(Base):
    """A pair that a person has looked at and found to be two people."""

    __tablename__ = "not_the_same"
    __table_args__ = (UniqueConstraint("low_id", "high_id"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    low_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    high_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime]
    by: Mapped[str]


class SavedView(Base):
    """A way of looking at the customers: whom, and which columns."""

    __tablename__ = "saved_view"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    search: Mapped[str]
    segment_id: Mapped[int | None] = mapped_column(ForeignKey("segment.id", ondelete="SET NULL"))
    rule: Mapped[dict[str, Any] | None]
    columns: Mapped[list[Any]]
    by: Mapped[str]
