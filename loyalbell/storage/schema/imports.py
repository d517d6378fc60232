"""Files brought in, and what came of their rows."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class ImportRun(Base):
    """One file: how its columns were read, and what came of its rows.

    ``problems`` groups the rows refused and the cells left out by their cause (``import_problems.Group``);
    ``examples`` is how earlier versions kept the refused rows. ``found`` is what the file holds in all.
    ``writes_since``: from when on rows of it may be in the book; until it has ended they are a part only.
    """

    __tablename__ = "import_run"

    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    filename: Mapped[str]
    stored_as: Mapped[str | None]
    mapping: Mapped[dict[str, Any]]
    state: Mapped[str]
    started_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    by: Mapped[str | None]
    created: Mapped[int] = mapped_column(default=0)
    changed: Mapped[int] = mapped_column(default=0)
    unchanged: Mapped[int] = mapped_column(default=0)
    refused: Mapped[int] = mapped_column(default=0)
    problem: Mapped[str | None]
    left_out: Mapped[int] = mapped_column(default=0)
    examples: Mapped[list[Any]] = mapped_column(default=list)
    problems: Mapped[list[Any]] = mapped_column(default=list)
    found: Mapped[dict[str, Any]] = mapped_column(default=dict)
    shape: Mapped[str | None] = mapped_column(index=True)
    undone_at: Mapped[datetime | None]
    undone_by: Mapped[str | None]
    writes_since: Mapped[datetime | None]


class ImportChange(Base):
    """A row that an import found and changed, as it was before. ``place`` is its table."""

    __tablename__ = "import_change"

    id: Mapped[int] = mapped_column(primary_key=True)
    import_id: Mapped[int] = mapped_column(ForeignKey("import_run.id", ondelete="CASCADE"), index=True)
    place: Mapped[str]
    row_id: Mapped[int]
    before: Mapped[dict[str, Any]]
