"""Which column of a file means what: the targets of each kind, and a first guess."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from loyalbell.store.files.cells import looks_day_first

KINDS = ("customers", "orders")


@dataclass(frozen=True)
class Target:
    """Something a column may mean. ``names`` are headings it goes by, in small letters without marks."""

    name: str
    label: str
    names: tuple[str, ...]


TARGETS: dict[str, tuple[Target, ...]] = {
    "customers": (
        Target("id", "customer id", ("customer id", "id", "client id", "customer no", "customer number")),
        Target("first_name", "first name", ("first name", "first", "given name", "forename")),
        Target("last_name", "last name", ("last name", "last", "surname", "family name")),
        Target("full_name", "whole name", ("name", "full name", "customer name", "customer")),
        Target("email", "email", ("email", "e mail", "email address", "e mail address", "mail")),
        Target(
            "phone", "mobile phone", ("phone", "mobile", "cell", "mobile phone", "telephone", "phone number")
        ),
        Target("language", "language", ("language", "lang", "locale")),
        Target("zone", "time zone", ("time zone", "timezone", "zone")),
        Target("birthday", "birthday", ("birthday", "birth date", "date of birth", "dob", "born")),
        Target("joined", "customer since", ("joined", "customer since", "since", "created", "created at")),
        Target("street", "street", ("street", "address", "address 1", "address line 1")),
        Target("city", "city", ("city", "town")),
        Target("region", "state or region", ("state", "region", "province", "county")),
        Target("postal_code", "postal code", ("postal code", "zip", "zip code", "postcode")),
        Target("email_agreed", "agreed to email", ("email agreed", "email consent", "email opt in")),
        Target("text_agreed", "agreed to texts", ("text agreed", "text consent", "sms consent")),
    ),
    "orders": (
        Target(
            "order_id", "order id", ("order id", "order", "order no", "order number", "receipt", "invoice")
        ),
        Target("customer_id", "customer id", ("customer id", "customer", "client id", "customer no")),
        Target("email", "customer’s email", ("email", "customer email", "e mail")),
        Target("phone", "customer’s phone", ("phone", "mobile", "customer phone")),
        Target(
            "placed", "day or time of the order", ("placed at", "placed", "date", "ordered at", "order date")
        ),
        Target("department", "department", ("department", "dept", "section")),
        Target("status", "status", ("status", "state", "order status")),
        Target("confirmed_at", "when it was confirmed", ("confirmed at", "confirmed")),
        Target("shipped_at", "when it was shipped", ("shipped at", "shipped")),
        Target("delivered_at", "when it was delivered", ("delivered at", "delivered")),
        Target("cancelled_at", "when it was cancelled", ("cancelled at", "canceled at", "cancelled")),
        Target("refunded_at", "when it was refunded", ("refunded at", "refund date")),
        Target("total", "order total", ("total", "order total", "amount", "grand total")),
        Target("refunded", "amount refunded", ("refunded", "refund", "refund amount")),
        Target("item_id", "item id", ("item id", "sku", "product id", "article")),
        Target("item", "item", ("item", "product", "item name", "product name", "service")),
        Target("category", "item’s category", ("category", "item category", "product category")),
        Target("quantity", "quantity", ("quantity", "qty", "units")),
        Target("line_total", "line total", ("line total", "line amount", "price", "line price")),
    ),
}


@dataclass(frozen=True)
class ColumnMap:
    """``columns`` maps a target to the number of its column, from 0."""

    columns: Mapping[str, int]
    zone: str
    day_first: bool = False
    notes: tuple[str, ...] = field(default=())

    def as_json(self, headings: Sequence[str]) -> dict[str, Any]:
        named = {target: headings[at] for target, at in self.columns.items()}
        return {"columns": named, "zone": self.zone, "day_first": self.day_first}


def plain_heading(heading: str) -> str:
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", heading)
    return " ".join(re.sub(r"[^a-z0-9]+", " ", spaced.casefold()).split())


def guess_map(
    kind: str, headings: Sequence[str], samples: Sequence[Sequence[str]], zone: str, country: str
) -> ColumnMap:
    """The likeliest meaning of each column, from its heading and its first cells."""
    plain = [plain_heading(heading) for heading in headings]
    columns: dict[str, int] = {}
    for target in TARGETS[kind]:
        for name in target.names:
            if name in plain and plain.index(name) not in columns.values():
                columns[target.name] = plain.index(name)
                break
    dates = [columns[name] for name in ("placed", "joined", "birthday") if name in columns]
    cells = [row[at] for row in samples for at in dates if at < len(row)]
    return ColumnMap(columns, zone, looks_day_first(cells, otherwise=country != "US"))


def map_problem(kind: str, columns: Mapping[str, int]) -> str | None:
    """What a map still lacks, in words, or ``None``."""
    if kind == "customers":
        if not columns.keys() & {"id", "email", "phone"}:
            return "Say which column holds the customer id, the email or the phone: one of them is needed."
        return None
    if "order_id" not in columns:
        return "Say which column holds the order id, so that the same file can be brought in twice safely."
    if not columns.keys() & {"customer_id", "email", "phone"}:
        return "Say which column tells whose order it is: customer id, email or phone."
    if "placed" not in columns:
        return "Say which column holds the day or time of the order."
    if not columns.keys() & {"total", "line_total"}:
        return "Say which column holds the order total or the line total."
    return None
