"""Which column of a file means what: the targets of each kind, and a first guess."""

import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from loyalbell.storage.files.money_columns import settle_money
from loyalbell.storage.records.kinds import RECORDS
from loyalbell.storage.records.parsers import looks_day_first, read_moment
from loyalbell.storage.records.targets import Target

CUSTOMERS = (
    Target("id", "customer id", ("customer id", "id", "client id", "customer no", "customer number", "uid")),
    Target("first_name", "first name", ("first name", "first", "given name", "forename")),
    Target("last_name", "last name", ("last name", "last", "surname", "family name")),
    Target("full_name", "whole name", ("name", "full name", "customer name", "customer", "guest", "client")),
    Target("email", "email", ("email", "e mail", "email address", "e mail address", "mail"), "email"),
    Target(
        "phone",
        "mobile phone",
        ("mobile phone", "mobile", "cell", "phone", "telephone", "phone number", "tel"),
        "phone",
    ),
    Target("chat_handle", "chat handle", ("chat handle", "chat", "handle", "chat name")),
    Target("language", "language", ("language", "lang", "locale")),
    Target("zone", "time zone", ("time zone", "timezone", "zone")),
    Target("birthday", "birthday", ("birthday", "birth date", "date of birth", "dob", "born")),
    Target(
        "joined",
        "customer since",
        ("customer since", "joined", "since", "signed up", "created", "created at", "sign up date"),
        "when",
    ),
    Target("street", "street", ("street", "address", "address 1", "address line 1", "street address")),
    Target("city", "city", ("city", "town")),
    Target("region", "state or region", ("region", "state", "province", "county")),
    Target("postal_code", "postal code", ("postal code", "zip", "zip code", "postcode")),
    Target(
        "email_agreed",
        "agreed to email",
        ("email agreed", "email consent", "email opt in", "newsletter"),
        "yes or no",
    ),
    Target(
        "text_agreed",
        "agreed to texts",
        ("text agreed", "text consent", "sms consent", "sms opt in"),
        "yes or no",
    ),
    Target("chat_agreed", "agreed to chat", ("chat agreed", "chat consent"), "yes or no"),
    Target("tags", "tags (with ; between)", ("tags", "labels", "groups", "categories")),
    Target(
        "cares_for",
        "cares for (name, kind, birthday)",
        ("cares for", "pets", "children", "companions", "patients", "pet"),
    ),
    Target("note", "note", ("note", "notes", "remark", "remarks", "comment", "comments")),
    Target("closed", "closed since", ("closed", "closed since", "inactive since"), "when"),
    Target("deceased", "deceased since", ("deceased", "deceased since", "died"), "when"),
)
ORDERS = (
    Target(
        "order_id",
        "order id",
        ("order id", "order", "order no", "order number", "receipt", "invoice", "basket id"),
    ),
    Target(
        "customer_id",
        "customer id",
        ("customer id", "customer", "client id", "customer no", "household id"),
    ),
    Target("email", "customer’s email", ("email", "customer email", "e mail"), "email"),
    Target("phone", "customer’s phone", ("phone", "mobile", "customer phone"), "phone"),
    Target(
        "placed",
        "day or time of the order",
        ("placed at", "placed", "date", "ordered at", "order date", "time"),
        "when",
    ),
    Target("department", "department", ("department", "dept", "section")),
    Target("location", "location", ("location", "store", "branch", "site")),
    Target("staff", "staff", ("staff", "served by", "employee", "seller")),
    Target("in_person", "made in person", ("in person", "made in person"), "yes or no"),
    Target("status", "status", ("status", "state", "order status")),
    Target("confirmed_at", "when it was confirmed", ("confirmed at", "confirmed"), "when"),
    Target("shipped_at", "when it was shipped", ("shipped at", "shipped"), "when"),
    Target("delivered_at", "when it was delivered", ("delivered at", "delivered"), "when"),
    Target("cancelled_at", "when it was cancelled", ("cancelled at", "canceled at", "cancelled"), "when"),
    Target("refunded_at", "when it was refunded", ("refunded at", "refund date"), "when"),
    Target("total", "order total", ("order total", "total", "amount", "grand total"), "money"),
    Target("discount", "discount on the order", ("order discount", "discount"), "money"),
    Target("refunded", "amount refunded", ("refunded", "refund", "refund amount"), "money"),
    Target("item_id", "item id", ("item id", "sku", "product id", "article")),
    Target("item", "item", ("item", "product", "item name", "product name", "service")),
    Target("category", "item’s category", ("category", "item category", "product category")),
    Target("quantity", "quantity", ("quantity", "qty", "units")),
    Target(
        "unit_price",
        "price of one",
        ("unit price", "price each", "price per unit", "single price", "each", "rate"),
        "money",
    ),
    Target(
        "line_total",
        "line total",
        ("line total", "line amount", "price", "line price", "sales value"),
        "money",
    ),
    Target("line_discount", "discount on the line", ("line discount",), "money"),
)
LINES = tuple(
    target
    for target in ORDERS
    if target.name
    in (
        "order_id",
        "item_id",
        "item",
        "category",
        "quantity",
        "unit_price",
        "line_total",
        "line_discount",
    )
)
TARGETS: dict[str, tuple[Target, ...]] = {
    "customers": CUSTOMERS,
    "orders": ORDERS,
    "order-lines": LINES,
    **{name: kind.targets for name, kind in RECORDS.items()},
}
KINDS = tuple(TARGETS)
NEW = {
    "new:text": "a new field of yours: text",
    "new:number": "a new field: number",
    "new:yes or no": "a new field: yes or no",
    "new:date": "a new field: date",
    "new:one choice": "a new field: one choice",
    "new:several choices": "a new field: several choices",
    "new:yearly": "a new yearly date",
    "new:id": "an id in another program",
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
        return {
            "columns": named,
            "zone": self.zone,
            "day_first": self.day_first,
            "notes": list(self.notes),
        }


def plain_heading(heading: str) -> str:
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", heading)
    return " ".join(re.sub(r"[^\w]+|_", " ", spaced.casefold()).split())


def shape_key(kind: str, headings: Sequence[str]) -> str:
    """What two files with the same columns have in common."""
    return hashlib.sha256("\x1f".join((kind, *map(plain_heading, headings))).encode()).hexdigest()[:32]


Samples = Sequence[Sequence[str]]


def guess_map(
    kind: str,
    headings: Sequence[str],
    samples: Samples,
    zone: str,
    country: str,
    own: Sequence[Target] = (),
) -> ColumnMap:
    """The likeliest meaning of each column: by its heading, then by words in it, then by its first cells.

    ``own`` are the targets that only this shop has.
    """
    targets = (*TARGETS[kind], *own)
    plain = [plain_heading(heading) for heading in headings]
    columns: dict[str, int] = {}
    for target in targets:
        exact = [at for name in target.names for at, heading in enumerate(plain) if heading == name]
        _take_first(columns, target, exact)
    for _, target, at in _named_within(targets, plain):
        _take_first(columns, target, [at])
    for target in targets:
        if target.reads in ("email", "phone") or target.name in NEEDED_TIMES:
            _take_first(
                columns, target, [at for at in range(len(plain)) if _all_look(target.reads, samples, at)]
            )
    notes = settle_money(columns, headings, samples) if kind in ("orders", "order-lines") else ()
    dated = [
        columns[target.name]
        for target in targets
        if target.reads in ("when", "day") and target.name in columns
    ]
    dated += [columns["birthday"]] if "birthday" in columns else []
    cells = [row[at] for row in samples for at in dated if at < len(row)]
    return ColumnMap(columns, zone, looks_day_first(cells, otherwise=country != "US"), notes)


def _take_first(columns: dict[str, int], target: Target, candidates: Sequence[int]) -> None:
    free = [at for at in candidates if at not in columns.values()]
    if free and target.name not in columns:
        columns[target.name] = free[0]


def _named_within(targets: Sequence[Target], plain: Sequence[str]) -> list[tuple[int, Target, int]]:
    """(length of the name, target, column) for each name that stands in a heading, the longest first."""
    found = [
        (len(name), target, at)
        for target in targets
        for name in target.names
        for at, heading in enumerate(plain)
        if _within(name, heading)
    ]
    return sorted(found, key=lambda one: -one[0])


def _within(name: str, heading: str) -> bool:
    """Whether the words of a longer name stand together in a heading."""
    return len(name) > 4 and f" {name} " in f" {heading} "


def _looks_like_email(cell: str) -> bool:
    return re.fullmatch(r"[^@\s]+@[^@\s]+\.[^@\s]+", cell) is not None


def _looks_like_phone(cell: str) -> bool:
    return (
        re.fullmatch(r"\+?[\d\s().\-/]{7,20}", cell) is not None
        and sum(c.isdigit() for c in cell) >= 9
        and not _looks_like_when(cell)
    )


def _looks_like_when(cell: str) -> bool:
    try:
        read_moment(cell, day_first=True)
    except ValueError:
        try:
            read_moment(cell, day_first=False)
        except ValueError:
            return False
    return any(c in cell for c in "-/.: ")


NEEDED_TIMES = ("placed", "at", "starts_at", "started_on")
LOOKS = {
    "email": _looks_like_email,
    "phone": _looks_like_phone,
    "when": _looks_like_when,
    "day": _looks_like_when,
}


def _all_look(reads: str, samples: Samples, at: int) -> bool:
    cells = [row[at].strip() for row in samples if at < len(row) and row[at].strip()]
    return bool(cells) and all(map(LOOKS[reads], cells[:50]))


def map_problem(kind: str, columns: Mapping[str, int]) -> str | None:
    """What a map still lacks, in words, or ``None``."""
    if kind in RECORDS:
        return RECORDS[kind].lacking(columns.keys())
    if kind == "customers":
        if not columns.keys() & {"id", "email", "phone", "chat_handle"}:
            return "Say which column holds the customer id, the email or the phone: one of them is needed."
        return None
    if "order_id" not in columns:
        return "Say which column holds the order id, so that the same file can be brought in twice safely."
    if kind == "order-lines":
        if columns.keys() & {"line_total", "unit_price"}:
            return None
        return "Say which column holds the line total, or the price of one."
    if not columns.keys() & {"customer_id", "email", "phone"}:
        return "Say which column tells whose order it is: customer id, email or phone."
    if "placed" not in columns:
        return "Say which column holds the day or time of the order."
    if not columns.keys() & {"total", "line_total", "unit_price"}:
        return "Say which column holds the order total, the line total, or the price of one."
    return None
