"""Bringing orders in from a table with a row per order or a row per line.

The file is read once into compact columns; an order stands or falls as a whole,
so one bad line refuses the order it belongs to.
"""

from array import array
from collections.abc import Callable, Iterator
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.core.money import minor_digits
from loyalbell.store.files.cells import Bad, CellReader, Email, Money, Phone, Quantity, When, Words
from loyalbell.store.files.customers_in import Known, load_known
from loyalbell.store.files.mapping import ColumnMap
from loyalbell.store.files.orders_write import OrdersWrite
from loyalbell.store.files.outcome import Outcome, RefusedRows
from loyalbell.store.files.table_file import Row

CHUNK = 20_000
STATUSES = {
    "placed": frozenset(
        {"placed", "new", "open", "pending", "paid", "complete", "completed", "closed", "done"}
    ),
    "confirmed": frozenset({"confirmed", "accepted", "processing"}),
    "shipped": frozenset({"shipped", "sent", "dispatched"}),
    "delivered": frozenset({"delivered", "received", "fulfilled", "collected"}),
    "cancelled": frozenset({"cancelled", "canceled", "void", "voided"}),
    "refunded": frozenset({"refunded", "returned"}),
}


class Status(CellReader):
    """Which of the status columns a word stands for."""

    def read(self, text: str) -> str:
        for status, words in STATUSES.items():
            if text.casefold() in words:
                return status
        raise ValueError(f"the status “{text}” is not known; use {', '.join(STATUSES)}")


class Whose(CellReader):
    """The person a cell names, by one of the indexes of who is known."""

    def __init__(self, index: dict[str, int], what: str, reader: CellReader) -> None:
        super().__init__()
        self.index, self.what, self.reader = index, what, reader

    def read(self, text: str) -> int:
        value = self.reader[text]
        if isinstance(value, Bad):
            raise ValueError(value.reason)
        if value not in self.index:
            raise ValueError(f"no customer with {self.what} “{text}” is on file; bring customers in first")
        return self.index[value]


class Numbered(dict[str, int]):
    """Gives each new key the next number from 0."""

    def __missing__(self, key: str) -> int:
        self[key] = number = len(self)
        return number


class Draft:
    """The orders of a file in compact columns, one entry an order or one a line."""

    def __init__(self) -> None:
        self.number = Numbered()
        self.person: list[int] = []
        self.placed: list[int] = []
        self.department: list[str | None] = []
        self.status: list[str | None] = []
        self.total: list[int | None] = []
        self.refunded: list[int] = []
        self.line_order = array("q")
        self.line_item = array("q")
        self.line_quantity = array("q")
        self.line_total = array("q")
        self.items = Numbered()
        self.item_facts: dict[int, tuple[str | None, str | None, str | None, str | None]] = {}
        self.bad: dict[str, int] = {}
        self.has_lines = False


class OrdersIn:
    """One import of orders. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self, session: Session, columns: ColumnMap, country: str, currency: str, import_id: int, write: bool
    ) -> None:
        self.columns = columns.columns
        self.draft = Draft()
        self.draft.has_lines = bool(self.columns.keys() & {"item", "item_id", "line_total"})
        self.readers = _readers(columns, load_known(session), country, minor_digits(currency))
        self.refused_rows: set[int] = set()
        self.writer = OrdersWrite(session, self.draft, currency, import_id, write)

    def run(
        self,
        rows: Callable[[], Iterator[Row]],
        refused: RefusedRows,
        progress: Callable[[int], None],
    ) -> Outcome:
        chunk: list[Row] = []
        for row in rows():
            chunk.append(row)
            if len(chunk) == CHUNK:
                self._take(chunk, refused)
                progress(row.number)
                chunk = []
        self._take(chunk, refused)
        if self.draft.bad:
            self._refuse_companions(rows(), refused)
        self.writer.finish(refused.outcome.counts)
        return refused.outcome

    def _take(self, chunk: list[Row], refused: RefusedRows) -> None:
        width = 1 + max(self.columns.values())
        tables = [row.cells if len(row.cells) >= width else row.cells + [""] * width for row in chunk]
        read = {
            target: [reader[cells[at]] for cells in tables]
            for target, at in self.columns.items()
            for reader in (self.readers[target],)
        }
        blank = [None] * len(chunk)
        wanted = [
            "order_id",
            "customer_id",
            "email",
            "phone",
            "placed",
            "department",
            "status",
            "total",
            "refunded",
            "item_id",
            "item",
            "category",
            "quantity",
            "line_total",
        ]
        for row, *values in zip(chunk, *(read.get(target, blank) for target in wanted), strict=True):
            reason = self._add(row.number, *values)
            if reason:
                refused.add(row.number, reason, row.cells)
                self.refused_rows.add(row.number)
                if isinstance(values[0], str):
                    self.draft.bad.setdefault(values[0], row.number)

    def _add(
        self,
        row: int,
        order_id: Any,
        customer: Any,
        email: Any,
        phone: Any,
        placed: Any,
        department: Any,
        status: Any,
        total: Any,
        refunded: Any,
        item_id: Any,
        item: Any,
        category: Any,
        quantity: Any,
        line_total: Any,
    ) -> str | None:
        person = customer if customer is not None else email if email is not None else phone
        for value in (order_id, person, placed, department, status, total, refunded, item_id, item):
            if type(value) is Bad:
                return value.reason
        for value in (category, quantity, line_total):
            if type(value) is Bad:
                return value.reason
        if order_id is None or person is None or placed is None:
            what = "order id" if order_id is None else "customer" if person is None else "day of the order"
            return f"no {what} in this row"
        draft = self.draft
        number = draft.number[order_id]
        if number == len(draft.person):
            draft.person.append(person)
            draft.placed.append(placed)
            draft.department.append(department)
            draft.status.append(status)
            draft.total.append(total)
            draft.refunded.append(refunded or 0)
        elif not draft.has_lines:
            return f"the order id “{order_id}” stands in this file twice"
        elif draft.person[number] != person:
            return f"order “{order_id}” names two customers"
        if draft.has_lines:
            if line_total is None and total is None:
                return "no line total in this row"
            key = item_id if item_id is not None else item
            kind = -1
            if key is not None:
                kind = draft.items[key]
                if kind not in draft.item_facts:
                    draft.item_facts[kind] = (item_id, item, category, department)
            draft.line_order.append(number)
            draft.line_item.append(kind)
            draft.line_quantity.append(1000 if quantity is None else quantity)
            draft.line_total.append(line_total or 0)
        elif total is None:
            return "no order total in this row"
        return None

    def _refuse_companions(self, rows: Iterator[Row], refused: RefusedRows) -> None:
        """Refuses the good lines of orders that have a bad one, reading the file once more."""
        at = self.columns["order_id"]
        reader = self.readers["order_id"]
        for row in rows:
            order_id = reader[row.cells[at]] if at < len(row.cells) else None
            first = self.draft.bad.get(order_id) if isinstance(order_id, str) else None
            if first is not None and row.number not in self.refused_rows:
                refused.add(row.number, f"row {first} of the same order was refused", row.cells)


def _readers(columns: ColumnMap, known: Known, country: str, digits: int) -> dict[str, CellReader]:
    words, money = Words(), Money(digits)
    special: dict[str, CellReader] = {
        "customer_id": Whose(known.by_id, "the id", words),
        "email": Whose(known.by_email, "the email", Email()),
        "phone": Whose(known.by_phone, "the phone", Phone(country)),
        "placed": When(columns.zone, columns.day_first),
        "status": Status(),
        "total": money,
        "refunded": money,
        "quantity": Quantity(),
        "line_total": money,
    }
    return {target: special.get(target, words) for target in columns.columns}
