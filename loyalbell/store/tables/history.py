"""Departments, the catalogue, and what people bought. Money is integer minor units of its currency."""

from datetime import datetime

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.store.tables.base import Base


class Department(Base):
    __tablename__ = "department"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)


class Item(Base):
    """A thing or service in the catalogue. ``lasts_days`` is how long one unit usually lasts."""

    __tablename__ = "item"

    id: Mapped[int] = mapped_column(primary_key=True)
    external_id: Mapped[str | None] = mapped_column(unique=True)
    name: Mapped[str] = mapped_column(index=True)
    category: Mapped[str | None]
    department_id: Mapped[int | None] = mapped_column(ForeignKey("department.id"))
    price_minor: Mapped[int | None]
    lasts_days: Mapped[int | None]


class Order(Base):
    """One purchase, however many lines it has. ``refunded_minor`` may be a part of the total."""

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


class OrderLine(Base):
    """One line of an order. ``quantity`` is in thousandths, so that 1.25 kg stays exact."""

    __tablename__ = "order_line"

    id: Mapped[int] = mapped_column(primary_key=True)
    order_id: Mapped[int] = mapped_column(ForeignKey("orders.id", ondelete="CASCADE"), index=True)
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    quantity: Mapped[int]
    total_minor: Mapped[int]
