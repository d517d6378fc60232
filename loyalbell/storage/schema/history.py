"""Departments, the catalogue, and what people bought and came for.

Money is integer minor units of its currency.
"""

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class Department(Base):
    __tablename__ = "department"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)


class Location(Base):
    """A place of the shop, where it has several."""

    __tablename__ = "location"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)


class Staff(Base):
    """Someone of the shop who served a customer."""

    __tablename__ = "staff"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)


class Item(Base):
    """A thing or service in the catalogue. ``lasts_days`` is how long one unit usually lasts.

    ``margin_minor`` is what one unit earns after its cost. A picture of our own (``picture_id``) goes
    before one elsewhere (``picture_url``). ``care_sheet_id`` is the file that goes with what was bought.
    """

    __tablename__ = "item"

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    name: Mapped[str] = mapped_column(index=True)
    category: Mapped[str | None]
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    price_minor: Mapped[int | None]
    lasts_days: Mapped[int | None]
    margin_minor: Mapped[int | None]
    picture_url: Mapped[str | None]
    link: Mapped[str | None]
    in_stock: Mapped[bool] = mapped_column(default=True, server_default="1")
    picture_id: Mapped[int | None] = mapped_column(ForeignKey("gallery_picture.id"))
    care_sheet_id: Mapped[int | None] = mapped_column(ForeignKey("attached_file.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Order(Base):
    """One purchase, however many lines it has. ``refunded_minor`` may be a part of the total.

    ``total_minor`` is what was paid, after ``discount_minor`` was taken off. ``tracking_code`` and
    ``tracking_url`` are the carrier's.
    """

    __tablename__ = "orders"
    __table_args__ = (Index("ix_orders_person_placed", "person_id", "placed_at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    placed_at: Mapped[datetime]
    confirmed_at: Mapped[datetime | None]
    shipped_at: Mapped[datetime | None]
    delivered_at: Mapped[datetime | None]
    cancelled_at: Mapped[datetime | None]
    refunded_at: Mapped[datetime | None]
    refunded_minor: Mapped[int] = mapped_column(default=0, server_default="0")
    total_minor: Mapped[int]
    currency: Mapped[str]
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    discount_minor: Mapped[int] = mapped_column(default=0, server_default="0")
    in_person: Mapped[bool] = mapped_column(default=True, server_default="1")
    tracking_code: Mapped[str | None]
    tracking_url: Mapped[str | None]


class OrderLine(Base):
    """One line of an order. ``quantity`` is in thousandths, so that 1.25 kg stays exact."""

    __tablename__ = "order_line"

    id: Mapped[int] = mapped_column(primary_key=True)
    order_id: Mapped[int] = mapped_column(ForeignKey("orders.id", ondelete="CASCADE"), index=True)
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    quantity: Mapped[int]
    total_minor: Mapped[int]
    discount_minor: Mapped[int] = mapped_column(default=0, server_default="0")


class Visit(Base):
    """Someone came in without an appointment. Kept appointments and orders in person are visits too."""

    __tablename__ = "visit"
    __table_args__ = (Index("ix_visit_person_at", "person_id", "at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    at: Mapped[datetime]
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Appointment(Base):
    """``state`` is booked, kept, cancelled or missed, since ``settled_at`` where that is known."""

    __tablename__ = "appointment"
    __table_args__ = (Index("ix_appointment_person_starts", "person_id", "starts_at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    booked_at: Mapped[datetime | None]
    starts_at: Mapped[datetime]
    ends_at: Mapped[datetime | None]
    state: Mapped[str]
    settled_at: Mapped[datetime | None]
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    companion: Mapped[str | None]
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Membership(Base):
    """A plan somebody holds. Days are local days of the shop."""

    __tablename__ = "membership"

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    plan: Mapped[str]
    term: Mapped[str]
    started_on: Mapped[date]
    renews_on: Mapped[date | None]
    ended_on: Mapped[date | None]
    price_minor: Mapped[int | None]
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Event(Base):
    """Something a site, an app or another program says that a person did."""

    __tablename__ = "event"
    __table_args__ = (Index("ix_event_person_at", "person_id", "at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"))
    kind: Mapped[str]
    at: Mapped[datetime]
    properties: Mapped[dict[str, Any]] = mapped_column(default=dict)
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))


class Answer(Base):
    """A review or an answer to a survey's question. ``score`` is out of ``best``."""

    __tablename__ = "answer"

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    at: Mapped[datetime]
    question: Mapped[str | None]
    score: Mapped[int | None]
    best: Mapped[int | None]
    text: Mapped[str | None]
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    location_id: Mapped[int | None] = mapped_column(ForeignKey("location.id"))
    staff_id: Mapped[int | None] = mapped_column(ForeignKey("staff.id"))
    import_id: Mapped[int | None] = mapped_column(ForeignKey("import_run.id"))
