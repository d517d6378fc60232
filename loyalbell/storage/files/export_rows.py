"""The rows of each kind of export, in columns that come back in on import unchanged."""

import json
from collections.abc import Iterator, Sequence
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import Select, inspect, select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.money import minor_digits
from loyalbell.storage.consent import consent_now
from loyalbell.storage.erased_addresses import HASHED
from loyalbell.storage.files.customers.custom_columns import day_triple
from loyalbell.storage.records.custom_fields import say_field
from loyalbell.storage.records.person_resolver import SOURCE
from loyalbell.storage.schema import (
    Answer,
    Appointment,
    Base,
    Companion,
    ConsentEntry,
    CustomField,
    Department,
    Event,
    ExternalId,
    FieldValue,
    Item,
    Location,
    Membership,
    Note,
    Order,
    OrderLine,
    Person,
    Shop,
    Staff,
    Suppression,
    Visit,
    YearlyDate,
)
from loyalbell.storage.tags import tag_names

CHUNK = 2_000
WHOSE = ("Customer ID", "Email", "Phone")
PLACE = ("Department", "Location", "Staff")
HEADINGS: dict[str, tuple[str, ...]] = {
    "customers": (
        "Customer ID",
        "First name",
        "Last name",
        "Email",
        "Mobile phone",
        "Chat handle",
        "Language",
        "Time zone",
        "Birthday",
        "Customer since",
        "Street",
        "City",
        "Region",
        "Postal code",
        "Email agreed",
        "Text agreed",
        "Chat agreed",
        "Tags",
        "Cares for",
        "Note",
        "Closed since",
        "Deceased since",
        "Number of purchases",
        "Total spent",
        "First purchase",
        "Last purchase",
    ),
    "orders": (
        "Order ID",
        *WHOSE,
        "Placed at",
        *PLACE,
        "In person",
        "Confirmed at",
        "Shipped at",
        "Delivered at",
        "Cancelled at",
        "Refunded at",
        "Refunded",
        "Item ID",
        "Item",
        "Category",
        "Quantity",
        "Line total",
        "Line discount",
        "Order total",
        "Order discount",
        "Tracking number",
        "Tracking link",
    ),
    "order-lines": ("Order ID", "Item ID", "Item", "Category", "Quantity", "Line total", "Line discount"),
    "visits": ("Visit ID", *WHOSE, "Visited at", *PLACE),
    "appointments": (
        "Appointment ID",
        *WHOSE,
        "Starts at",
        "Ends at",
        "Booked at",
        "State",
        "Settled at",
        "Companion",
        "Item ID",
        "Service",
        "Category",
        *PLACE,
    ),
    "memberships": (
        "Membership ID",
        *WHOSE,
        "Plan",
        "Term",
        "Started on",
        "Renews on",
        "Ended on",
        "Price",
        *PLACE,
    ),
    "events": ("Event ID", *WHOSE, "Event", "Happened at", "Properties", *PLACE),
    "answers": (
        "Answer ID",
        *WHOSE,
        "Kind",
        "Answered at",
        "Question",
        "Score",
        "Best",
        "Text",
        "Item ID",
        "Item",
        "Category",
        *PLACE,
    ),
    "items": (
        "Item ID",
        "Name",
        "Category",
        "Department",
        "Price",
        "Margin",
        "Link",
        "Picture",
        "In stock",
        "Lasts days",
    ),
    "consents": (*WHOSE, "Channel", "State", "Said at", "Source", "Wording"),
    "suppressions": ("Address", "Customer ID", "Channel", "Reason", "Since"),
}
YES_NO = {"agreed": "yes", "refused": "no"}


def headings_of(reader: Reader, kind: str) -> tuple[str, ...]:
    """The columns of a kind; customers have the shop's own after the common ones."""
    if kind != "customers":
        return HEADINGS[kind]
    own = Own(reader)
    return (
        *HEADINGS[kind],
        *(field.name for field in own.fields),
        *(f"{name} (yearly)" for name in own.yearly),
        *(f"ID in {source}" for source in own.sources),
    )


def rows_of(reader: Reader, kind: str, only: Sequence[int] | None = None) -> Iterator[list[str]]:
    """The rows of a kind, in the order of ``headings_of``; ``only`` the customers with these ids."""
    if kind == "customers":
        return _customers(reader, only)
    writing = Rows(reader)
    if kind in ("orders", "order-lines"):
        return writing.orders(lines_only=kind == "order-lines")
    return writing.simple(kind)


class Own:
    """The shop's own columns of customers."""

    def __init__(self, reader: Reader) -> None:
        self.fields = list(reader.scalars(select(CustomField).order_by(CustomField.name)))
        self.yearly = list(reader.scalars(select(YearlyDate.name).distinct().order_by(YearlyDate.name)))
        self.sources = list(
            reader.scalars(
                select(ExternalId.source)
                .where(ExternalId.source != SOURCE)
                .distinct()
                .order_by(ExternalId.source)
            )
        )

    def cells(self, reader: Reader, ids: Sequence[int]) -> dict[int, list[str]]:
        """The cells of the own columns, by person id."""
        values: dict[tuple[int, int], str] = {}
        kinds = {field.id: field.kind for field in self.fields}
        of_field = select(FieldValue.person_id, FieldValue.field_id, FieldValue.value)
        for person, field, value in reader.execute(
            of_field.where(FieldValue.person_id.in_(ids), FieldValue.until.is_(None))
        ):
            values[person, field] = say_field(kinds[field], value)
        of_day = select(
            YearlyDate.person_id, YearlyDate.name, YearlyDate.year, YearlyDate.month, YearlyDate.day
        )
        days = {
            (person, name): day_triple(year, month, day)
            for person, name, year, month, day in reader.execute(of_day.where(YearlyDate.person_id.in_(ids)))
        }
        of_id = select(ExternalId.person_id, ExternalId.source, ExternalId.value)
        known = {
            (person, source): value
            for person, source, value in reader.execute(of_id.where(ExternalId.person_id.in_(ids)))
        }
        return {
            person: [
                *(values.get((person, field.id), "") for field in self.fields),
                *(days.get((person, name), "") for name in self.yearly),
                *(known.get((person, source), "") for source in self.sources),
            ]
            for person in ids
        }


def when(instant: datetime | None, zone: ZoneInfo) -> str:
    return instant.astimezone(zone).isoformat() if instant else ""


def plain_money(minor: int | None, digits: int) -> str:
    return "" if minor is None else f"{minor / 10**digits:.{digits}f}"


def _birthday(one: Any) -> str:
    if not one.birthday_month or not one.birthday_day:
        return ""
    return day_triple(one.birthday_year, one.birthday_month, one.birthday_day)


def _customers(reader: Reader, only: Sequence[int] | None) -> Iterator[list[str]]:
    shop, own = reader.get_one(Shop, 1), Own(reader)
    zone, digits = ZoneInfo(shop.zone), minor_digits(shop.currency)
    for people in _chunks(reader, Person, only):
        ids = [person.id for person in people]
        known, own_cells = external_ids(reader, ids), own.cells(reader, ids)
        consents = [consent_now(reader, ids, channel) for channel in CHANNELS]
        tags, cared, notes = tag_names(reader, ids), _cared_for(reader, ids), _notes(reader, ids)
        for person in people:
            yield [
                known.get(person.id, ""),
                person.first_name or "",
                person.last_name or "",
                person.email_given or person.email or "",
                person.phone or "",
                person.chat_handle or "",
                person.language or "",
                person.zone or "",
                _birthday(person),
                when(person.joined_at, zone),
                person.street or "",
                person.city or "",
                person.region or "",
                person.postal_code or "",
                *(YES_NO.get(states.get(person.id, ""), "") for states in consents),
                "; ".join(tags.get(person.id, [])),
                "; ".join(cared.get(person.id, [])),
                notes.get(person.id, ""),
                when(person.closed_at, zone),
                when(person.deceased_at, zone),
                "" if person.before_orders is None else str(person.before_orders),
                plain_money(person.before_minor, digits),
                when(person.before_first_at, zone),
                when(person.before_last_at, zone),
                *own_cells[person.id],
            ]


def _columns_of(table: type[Base]) -> Select[Any]:
    """Rows with the columns by their names: a fifth of the work of objects that remember changes."""
    return select(*(getattr(table, one.key) for one in inspect(table).column_attrs))


def _chunks(reader: Reader, table: type[Any], only: Sequence[int] | None = None) -> Iterator[Sequence[Any]]:
    every = _columns_of(table).order_by(table.id)
    if only is not None:
        for start in range(0, len(only), CHUNK):
            some = only[start : start + CHUNK]
            yield reader.execute(every.where(table.id.in_(some))).all()
        return
    after = 0
    while rows := reader.execute(every.where(table.id > after).limit(CHUNK)).all():
        yield rows
        after = rows[-1].id


def external_ids(reader: Reader, ids: Sequence[int]) -> dict[int, str]:
    """The id that imports know each person by, the first where there are several."""
    rows = reader.execute(
        select(ExternalId.person_id, ExternalId.value)
        .where(ExternalId.person_id.in_(ids), ExternalId.source == SOURCE)
        .order_by(ExternalId.id.desc())
    )
    return {person_id: value for person_id, value in rows}


def _cared_for(reader: Reader, ids: Sequence[int]) -> dict[int, list[str]]:
    found: dict[int, list[str]] = {}
    query = _columns_of(Companion).where(Companion.person_id.in_(ids)).order_by(Companion.id)
    for one in reader.execute(query):
        about = ", ".join(filter(None, (one.kind, _birthday(one))))
        found.setdefault(one.person_id, []).append(f"{one.name} ({about})" if about else one.name)
    return found


def _notes(reader: Reader, ids: Sequence[int]) -> dict[int, str]:
    """The newest note of each."""
    rows = reader.execute(select(Note.person_id, Note.text).where(Note.person_id.in_(ids)).order_by(Note.id))
    return {person_id: text for person_id, text in rows}


class Rows:
    """Rows of history, with the names of what they point to."""

    def __init__(self, reader: Reader) -> None:
        shop = reader.get_one(Shop, 1)
        self.reader, self.zone, self.digits = reader, ZoneInfo(shop.zone), minor_digits(shop.currency)
        self.items = {item.id: item for item in reader.scalars(select(Item))}
        self.places: list[dict[int, str]] = [
            dict(reader.execute(select(table.id, table.name)).all())
            for table in (Department, Location, Staff)
        ]

    def simple(self, kind: str) -> Iterator[list[str]]:
        tables: dict[str, tuple[type[Base], Any]] = {
            "visits": (Visit, self._visit),
            "appointments": (Appointment, self._appointment),
            "memberships": (Membership, self._membership),
            "events": (Event, self._event),
            "answers": (Answer, self._answer),
            "items": (Item, self._item),
            "consents": (ConsentEntry, self._consent),
            "suppressions": (Suppression, self._suppression),
        }
        table, cells = tables[kind]
        for rows in _chunks(self.reader, table):
            people = self._people({row.person_id for row in rows if getattr(row, "person_id", None)})
            for row in rows:
                if not (kind == "suppressions" and (row.lifted_at or row.address.startswith(HASHED))):
                    yield cells(row, people)

    def _people(self, ids: set[int]) -> dict[int, list[str]]:
        """Customer id, else email, else phone: enough to name each person again."""
        wanted = sorted(ids)
        known = external_ids(self.reader, wanted)
        return {
            one.id: [
                known.get(one.id, ""),
                "" if one.id in known else one.email or "",
                "" if one.id in known or one.email else one.phone or "",
            ]
            for one in self.reader.execute(
                select(Person.id, Person.email, Person.phone).where(Person.id.in_(wanted))
            )
        }

    def _place(self, row: Any) -> list[str]:
        ids = (row.department_id, row.location_id, row.staff_id)
        return [names.get(one or 0, "") for names, one in zip(self.places, ids, strict=True)]

    def _item_cells(self, item_id: int | None) -> list[str]:
        item = self.items.get(item_id or 0)
        return [item.external_id or "", item.name, item.category or ""] if item else ["", "", ""]

    def _when(self, instant: datetime | None) -> str:
        return when(instant, self.zone)

    def _visit(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        return [row.external_id or "", *people[row.person_id], self._when(row.at), *self._place(row)]

    def _appointment(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        times = [self._when(one) for one in (row.starts_at, row.ends_at, row.booked_at)]
        return [
            row.external_id or "",
            *people[row.person_id],
            *times,
            row.state,
            self._when(row.settled_at),
            row.companion or "",
            *self._item_cells(row.item_id),
            *self._place(row),
        ]

    def _membership(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        days = [_day(one) for one in (row.started_on, row.renews_on, row.ended_on)]
        price = plain_money(row.price_minor, self.digits)
        return [
            row.external_id or "",
            *people[row.person_id],
            row.plan,
            row.term,
            *days,
            price,
            *self._place(row),
        ]

    def _event(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        properties = json.dumps(row.properties, sort_keys=True, ensure_ascii=False) if row.properties else ""
        return [
            row.external_id or "",
            *people[row.person_id],
            row.kind,
            self._when(row.at),
            properties,
            *self._place(row),
        ]

    def _answer(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        return [
            row.external_id or "",
            *people[row.person_id],
            row.kind,
            self._when(row.at),
            row.question or "",
            _whole(row.score),
            _whole(row.best),
            row.text or "",
            *self._item_cells(row.item_id),
            *self._place(row),
        ]

    def _item(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        return [
            row.external_id or "",
            row.name,
            row.category or "",
            self.places[0].get(row.department_id or 0, ""),
            plain_money(row.price_minor, self.digits),
            plain_money(row.margin_minor, self.digits),
            row.link or "",
            row.picture_url or "",
            "yes" if row.in_stock else "no",
            _whole(row.lasts_days),
        ]

    def _consent(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        return [
            *people[row.person_id],
            row.channel,
            row.state,
            self._when(row.at),
            row.source,
            row.wording or "",
        ]

    def _suppression(self, row: Any, people: dict[int, list[str]]) -> list[str]:
        customer = people.get(row.person_id or 0, [""])[0]
        return [row.address, customer, row.channel, row.reason, self._when(row.at)]

    def orders(self, lines_only: bool) -> Iterator[list[str]]:
        for orders in _chunks(self.reader, Order):
            lines: dict[int, list[Any]] = {}
            for line in self.reader.execute(
                _columns_of(OrderLine)
                .where(OrderLine.order_id.in_([order.id for order in orders]))
                .order_by(OrderLine.id)
            ):
                lines.setdefault(line.order_id, []).append(line)
            people = {} if lines_only else self._people({order.person_id for order in orders})
            for order in orders:
                own = [self._line(line) for line in lines.get(order.id, [])]
                if lines_only:
                    yield from ([order.external_id or "", *cells] for cells in own)
                else:
                    yield from self._order(order, people, own or [[""] * 6])

    def _order(self, order: Any, people: dict[int, list[str]], lines: list[list[str]]) -> Iterator[list[str]]:
        times = (
            order.confirmed_at,
            order.shipped_at,
            order.delivered_at,
            order.cancelled_at,
            order.refunded_at,
        )
        start = [
            order.external_id or "",
            *people[order.person_id],
            self._when(order.placed_at),
            *self._place(order),
            "yes" if order.in_person else "no",
            *map(self._when, times),
            plain_money(order.refunded_minor or None, self.digits),
        ]
        end = [
            plain_money(order.total_minor, self.digits),
            plain_money(order.discount_minor or None, self.digits),
            order.tracking_code or "",
            order.tracking_url or "",
        ]
        for line in lines:
            yield [*start, *line, *end]

    def _line(self, line: Any) -> list[str]:
        quantity = f"{line.quantity / 1000:.3f}".rstrip("0").rstrip(".")
        discount = plain_money(line.discount_minor or None, self.digits)
        return [
            *self._item_cells(line.item_id),
            quantity,
            plain_money(line.total_minor, self.digits),
            discount,
        ]


def _day(day: date | None) -> str:
    return day.isoformat() if day else ""


def _whole(number: int | None) -> str:
    return "" if number is None else str(number)
