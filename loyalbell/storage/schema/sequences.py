"""Sequences, their published versions, and everybody's way through them."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base, JsonText


class Sequence(Base):
    """A sequence with its draft. ``live_version_id`` is the version that rings; ``key`` draws its arms.

    ``state``: draft, live, paused, stopped. ``looked_until`` is up to when its start rule has been looked at;
    ``goes_live_at`` when ``goes_live_with`` is to be published by itself, ``publish_problem`` why it was not;
    ``set_aside_because`` what could not be carried out, so that the program paused it.
    The lower ``rank`` goes first where two meet. ``normal`` is how many messages a day are usual, as the
    rehearsal before publishing said, ``by_weekday`` from Monday on; ``let_in`` how many people a paced
    backlog lets in on which days (ISO), as it was confirmed. ``is_template``: others may be started from it.
    """

    __tablename__ = "sequence"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    key: Mapped[str]
    state: Mapped[str] = mapped_column(default="draft")
    draft: Mapped[dict[str, Any]]
    changed_at: Mapped[datetime]
    live_version_id: Mapped[int | None]
    goes_live_at: Mapped[datetime | None]
    goes_live_with: Mapped[dict[str, Any] | None]
    publish_problem: Mapped[str | None]
    set_aside_because: Mapped[str | None]
    rank: Mapped[int] = mapped_column(default=0)
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    rings_since: Mapped[datetime | None]
    looked_until: Mapped[datetime | None]
    paused_at: Mapped[datetime | None]
    normal: Mapped[float | None]
    by_weekday: Mapped[list[float]] = mapped_column(JsonText, default=list, server_default="[]")
    let_in: Mapped[dict[str, int]] = mapped_column(JsonText, default=dict, server_default="{}")
    archived_at: Mapped[datetime | None]
    is_template: Mapped[bool] = mapped_column(default=False, server_default="0")
    made_at: Mapped[datetime]
    by: Mapped[str]


class SequenceVersion(Base):
    """A published plan; never changed."""

    __tablename__ = "sequence_version"
    __table_args__ = (UniqueConstraint("sequence_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    sequence_id: Mapped[int] = mapped_column(ForeignKey("sequence.id", ondelete="CASCADE"))
    number: Mapped[int]
    plan: Mapped[dict[str, Any]]
    published_at: Mapped[datetime]
    by: Mapped[str]
    note: Mapped[str] = mapped_column(default="", server_default="")


class Enrolment(Base):
    """One person's way through a sequence, for one reason to come in (``key``): at most once.

    ``state``: waiting to be let in, under way, finished, left, taken out, held back, kept out. ``settled``,
    ``tried``, ``sent`` and ``awaits`` are of the position (its ``due_at`` is empty while its message is on
    its way); ``trail`` lists (step, instant, what) in order.
    """

    __tablename__ = "enrolment"
    __table_args__ = (
        UniqueConstraint("sequence_id", "person_id", "key"),
        Index("ix_enrolment_state_due", "state", "due_at"),
        Index("ix_enrolment_person", "person_id"),
        Index("ix_enrolment_on_its_way", "sequence_id", sqlite_where=text("awaits = 'on its way'")),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    sequence_id: Mapped[int] = mapped_column(ForeignKey("sequence.id", ondelete="CASCADE"))
    version_id: Mapped[int | None]
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    key: Mapped[str]
    anchor_at: Mapped[datetime]
    entered_at: Mapped[datetime]
    state: Mapped[str]
    cause: Mapped[str | None]
    step: Mapped[str | None]
    due_at: Mapped[datetime | None]
    settled: Mapped[bool] = mapped_column(default=False, server_default="0")
    tried_at: Mapped[datetime | None]
    sent: Mapped[str] = mapped_column(default="", server_default="")
    awaits: Mapped[str] = mapped_column(default="", server_default="")
    trail: Mapped[list[Any]] = mapped_column(JsonText, default=list, server_default="[]")
    ended_at: Mapped[datetime | None]


class HeldBatch(Base):
    """Messages of one sequence and day that were far above its norm, kept until a person decides.

    ``state``: held, released, dropped. ``normal`` and ``most`` are messages a day. ``is_usual``: whoever let
    it go said that such a day is usual from now on.
    """

    __tablename__ = "held_batch"

    id: Mapped[int] = mapped_column(primary_key=True)
    origin_kind: Mapped[str]
    origin_id: Mapped[int]
    day: Mapped[str]
    made_at: Mapped[datetime]
    normal: Mapped[float]
    is_usual: Mapped[bool] = mapped_column(default=False, server_default="0")
    most: Mapped[int]
    state: Mapped[str] = mapped_column(default="held")
    decided_at: Mapped[datetime | None]
    decided_by: Mapped[str | None]


class StaffNote(Base):
    """Something a sequence asks the staff to do about a person."""

    __tablename__ = "staff_note"

    id: Mapped[int] = mapped_column(primary_key=True)
    enrolment_id: Mapped[int] = mapped_column(ForeignKey("enrolment.id", ondelete="CASCADE"))
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    step: Mapped[str]
    words: Mapped[str]
    at: Mapped[datetime]
    done_at: Mapped[datetime | None]
    done_by: Mapped[str | None]


class HandedOff(Base):
    """Somebody on a list for other tools."""

    __tablename__ = "handed_off"

    id: Mapped[int] = mapped_column(primary_key=True)
    list: Mapped[str]
    enrolment_id: Mapped[int] = mapped_column(ForeignKey("enrolment.id", ondelete="CASCADE"))
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    step: Mapped[str]
    at: Mapped[datetime]
