"""Customers and orders out of the book, in columns that come back in on import unchanged."""

import csv
import json
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import TextIO
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.money import minor_digits
from loyalbell.store.consent import consent_now
from loyalbell.store.files.customers_in import SOURCE
from loyalbell.store.files.outcome import guarded
from loyalbell.store.tables import Department, ExternalId, Item, Order, OrderLine, Person, Shop

FORMATS = ("csv", "json")
CHUNK = 2_000
HEADINGS = {
    "customers": (
        "Customer ID", "First name", "Last name", "Email", "Mobile phone", "Language", "Time zone", "Birthday",
        "Customer since", "Street", "City", "Region", "Postal code", "Email agreed", "Text agreed",
    ),
    "orders": (
        "Order ID", "Customer ID", "Email", "Phone", "Placed at", "Department", "Confirmed at", "Shipped at", "Delivered at",
        "Cancelled at", "Refunded at", "Refunded", "Item ID", "Item", "Category", "Quantity", "Line total", "Order total",
    ),
}  # fmt: skip


def rows_of(reader: Reader, kind: str) -> Iterator[list[str]]:
    """The rows of one kind, in the order of ``HEADINGS``."""
    return _customers(reader) if kind == "customers" else _orders(reader)


def write_csv(reader: Reader, kind: str, out: TextIO) -> int:
    """Formulas are guarded with an apostrophe, which import takes off again. Returns the rows written."""
    writer, count = csv.writer(out), 0
    writer.writerow(HEADINGS[kind])
    for row in rows_of(reader, kind):
        writer.writerow(map(guarded, row))
        count += 1
    return count


def write_json(reader: Reader, kind: str, out: TextIO) -> int:
    """A JSON array of objects by heading, blank cells left out. Returns the rows written."""
    count = 0
    out.write("[")
    for row in rows_of(reader, kind):
        named = {name: cell for name, cell in zip(HEADINGS[kind], row, strict=True) if cell}
        out.write(("," if count else "") + "\n" + json.dumps(named, ensure_ascii=False))
        count += 1
    out.write("\n]\n")
    return count


def _when(instant: datetime | None, zone: ZoneInfo) -> str:
    return instant.astimezone(zone).isoformat() if instant else ""


def _birthday(person: Person) -> str:
    if not person.birthday_month or not person.birthday_day:
        return ""
    day = f"{person.birthday_month:02}-{person.birthday_day:02}"
    return f"{person.birthday_year:04}-{day}" if person.birthday_year else f"--{day}"


def _customers(reader: Reader) -> Iterator[list[str]]:
    zone, after = ZoneInfo(reader.get_one(Shop, 1).zone), 0
    yes = {"agreed": "yes", "refused": "no"}
    while people := list(
        reader.scalars(select(Person).where(Person.id > after).order_by(Person.id).limit(CHUNK))
    ):
        ids = [person.id for person in people]
        after = ids[-1]
        known = _external(reader, ids)
        email, text = (consent_now(reader, ids, channel) for channel in ("email", "text"))
        for person in people:
            yield [
                known.get(person.id, ""), person.first_name or "", person.last_name or "", person.email or "",
                person.phone or "", person.language or "", person.zone or "", _birthday(person),
                _when(person.joined_at, zone), person.street or "", person.city or "", person.region or "",
                person.postal_code or "", yes.get(email.get(person.id, ""), ""), yes.get(text.get(person.id, ""), ""),
            ]  # fmt: skip
        reader.expunge_all()


def _external(reader: Reader, ids: list[int]) -> dict[int, str]:
    """The id that imports know each person by, the first where there are several."""
    rows = reader.execute(
        select(ExternalId.person_id, ExternalId.value)
        .where(ExternalId.person_id.in_(ids), ExternalId.source == SOURCE)
        .order_by(ExternalId.id.desc())
    )
    return {person_id: value for person_id, value in rows}


def _orders(reader: Reader) -> Iterator[list[str]]:
    shop = reader.get_one(Shop, 1)
    zone, digits = ZoneInfo(shop.zone), minor_digits(shop.currency)
    departments = {at: name for at, name in reader.execute(select(Department.id, Department.name))}
    items = {item.id: item for item in reader.scalars(select(Item))}
    after = 0
    while orders := list(
        reader.scalars(select(Order).where(Order.id > after).order_by(Order.id).limit(CHUNK))
    ):
        after = orders[-1].id
        lines: dict[int, list[OrderLine]] = {}
        for line in reader.scalars(
            select(OrderLine).where(OrderLine.order_id.in_([o.id for o in orders])).order_by(OrderLine.id)
        ):
            lines.setdefault(line.order_id, []).append(line)
        people = {
            p.id: p
            for p in reader.scalars(select(Person).where(Person.id.in_({o.person_id for o in orders})))
        }
        known = _external(reader, list(people))
        for order in orders:
            start = _order_cells(order, people[order.person_id], known, departments, zone, digits)
            for own in [_line_cells(line, items, digits) for line in lines.get(order.id, [])] or [[""] * 5]:
                yield [*start, *own, _plain(order.total_minor, digits)]


def _order_cells(
    order: Order,
    person: Person,
    known: dict[int, str],
    departments: dict[int, str],
    zone: ZoneInfo,
    digits: int,
) -> list[str]:
    customer = known.get(person.id, "")
    times = (order.confirmed_at, order.shipped_at, order.delivered_at, order.cancelled_at, order.refunded_at)
    return [
        order.external_id or "",
        customer,
        "" if customer else person.email or "",
        "" if customer or person.email else person.phone or "",
        _when(order.placed_at, zone),
        departments.get(order.department_id or 0, ""),
        *(_when(time, zone) for time in times),
        _plain(order.refunded_minor, digits) if order.refunded_minor else "",
    ]


def _line_cells(line: OrderLine, items: dict[int, Item], digits: int) -> list[str]:
    item = items.get(line.item_id or 0)
    named = [item.external_id or "", item.name, item.category or ""] if item else ["", "", ""]
    return [*named, f"{line.quantity / 1000:g}", _plain(line.total_minor, digits)]


def _plain(minor: int, digits: int) -> str:
    return f"{minor / 10**digits:.{digits}f}"


def book_figures(reader: Reader) -> dict[str, object]:
    """People, orders, lines, money per currency in minor units (cancelled orders left out), first and last instants."""
    connection = reader.connection()

    def one(sql: str) -> int:
        return int(connection.exec_driver_sql(sql).scalar_one() or 0)

    money = connection.exec_driver_sql(
        "SELECT currency, sum(total_minor - refunded_minor) FROM orders WHERE cancelled_at IS NULL GROUP BY 1"
    )
    first, last = connection.exec_driver_sql("SELECT min(placed_at), max(placed_at) FROM orders").one()
    return {
        "people": one("SELECT count(*) FROM person"),
        "orders": one("SELECT count(*) FROM orders"),
        "lines": one("SELECT count(*) FROM order_line"),
        "money": {currency: int(total) for currency, total in money},
        "first": None if first is None else datetime.fromtimestamp(first, UTC).isoformat(),
        "last": None if last is None else datetime.fromtimestamp(last, UTC).isoformat(),
    }
