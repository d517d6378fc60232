"""What uses what, as it was when the user was saved."""

from sqlalchemy import Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class ReferenceRow(Base):
    """``user_kind`` number ``user_id`` leans on what has ``used_key`` (a number, or a name) among
    ``used_kind``.
    """

    __tablename__ = "reference"
    __table_args__ = (
        UniqueConstraint("user_kind", "user_id", "used_kind", "used_key"),
        Index("ix_reference_used", "used_kind", "used_key"),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    user_kind: Mapped[str]
    user_id: Mapped[int]
    used_kind: Mapped[str]
    used_key: Mapped[str]
