"""Bringing orders in from a table with a row per order or a row per line.

The file is read once into compact columns; an order stands or falls as a whole,
so one bad line refuses the order it belongs to.
"""

from collections.abc import Callable, Iterator
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.column_mapping import ColumnMap
from loyalbell.storage.files.import_outcome import Outcome, Refusals
from loyalbell.storage.files.money_columns import line_total
from loyalbell.storage.files.order_draft import Draft
from loyalbell.storage.files.order_upsert import OrdersWrite
from loyalbell.storage.files.table_reader import Row, chunks_of
from loyalbell.storage.long_write import Breathe, never
from loyalbell.storage.records.parsers import (
    Bad,
    CellReader,
    Email,
    Money,
    Phone,
    Quantity,
    Text,
    When,
    YesNo,
)
from loyalbell.storage.records.person_resolver import PersonResolver, load_person_resolver

CHUNK = 20_000
MORE = ("location", "staff", "discount", "in_person")
TIMES = ("confirmed_at", "shipped_at", "delivered_at", "cancelled_at", "refunded_at")
WANTED = tuple(
    "order_id placed department status total refunded item_id item category quantity line_total "
    "line_discount".split()
)
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
        if self.what == "the email":
            value = value.lower()
        if value not in self.index:
            raise ValueError(f"no customer with {self.what} “{text}” is on file; bring customers in first")
        return self.index[value]


def _first(names: tuple[Any, ...]) -> Any:
    return next((name for name in names if name is not None), None)


class OrdersIn:
    """One import of orders. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self,
        session: Session,
        columns: ColumnMap,
        country: str,
        currency: str,
        import_id: int | None,
        write: bool,
        known: PersonResolver | None = None,
    ) -> None:
        self.columns = columns.columns
        self.draft = Draft()
        self.draft.has_lines = bool(self.columns.keys() & {"item", "item_id", "line_total", "unit_price"})
        self.readers = _readers(
            columns, known or load_person_resolver(session), country, minor_digits(currency)
        )
        self.timed = bool(self.columns.keys() & set(TIMES))
        self.detailed = bool(self.columns.keys() & set(MORE))
        self.refused_rows: set[int] = set()
        self.writer = OrdersWrite(session, self.draft, currency, import_id, write)

    def run(
        self,
        rows: Callable[[], Iterator[Row]],
        refused: Refusals,
        progress: Callable[[int], bool],
        breathe: Breathe = never,
    ) -> Outcome:
        self.refused = refused
        for chunk in chunks_of(rows(), CHUNK):
            self._take(chunk)
            progress(chunk[-1][0])
        if self.draft.bad:
            self._refuse_companions(rows(), refused)
        self.writer.finish(refused.outcome.counts, breathe)
        return refused.outcome

    def _take(self, chunk: list[Row]) -> None:
        if not chunk:
            return
        width = 1 + max(self.columns.values())
        padded = [cells if len(cells) >= width else cells + [""] * width for _, cells in chunk]
        columns = list(zip(*padded, strict=False))
        read = {
            target: list(map(self.readers[target].__getitem__, columns[at]))
            for target, at in self.columns.items()
        }
        bad = self._bad_cells(read)
        blank = [None] * len(chunk)
        if "unit_price" in read:
            read["line_total"] = self._line_totals(read, blank)
        whose = [read[target] for target in ("customer_id", "email", "phone") if target in read]
        people = whose[0] if len(whose) == 1 else [_first(names) for names in zip(*whose, strict=True)]
        if bad or not self._add_clean(people, read, blank):
            self._add_rows(chunk, people, read, bad)
        if self.timed:
            self._note(read, TIMES, self.draft.times)
        if self.detailed:
            self._note(read, MORE, self.draft.more)

    def _line_totals(self, read: dict[str, list[Any]], blank: list[Any]) -> list[int | None]:
        """Of each row what the file says, else the price of one times the quantity."""
        return [
            total if total is not None else line_total(*(None if type(one) is Bad else one for one in facts))
            for total, *facts in zip(
                read.get("line_total", blank), read["unit_price"], read.get("quantity", blank), strict=True
            )
        ]

    def _add_rows(
        self, chunk: list[Row], people: list[Any], read: dict[str, list[Any]], bad: dict[int, str]
    ) -> None:
        """Row by row, refusing those that cannot be taken."""
        blank = [None] * len(chunk)
        wanted = (read.get(target, blank) for target in WANTED)
        for at, values in enumerate(zip(people, *wanted, strict=True)):
            reason = bad.get(at) or self._add(*values)
            if reason:
                number, cells = chunk[at]
                self.refused.add(number, reason, cells)
                self.refused_rows.add(number)
                order_id = read["order_id"][at]
                if isinstance(order_id, str):
                    self.draft.bad.setdefault(order_id, number)

    def _note(
        self, read: dict[str, list[Any]], targets: tuple[str, ...], kept: dict[int, tuple[Any, ...]]
    ) -> None:
        """Keeps some facts of orders that have any of them, as their first row gives them."""
        blank = [None] * len(read["order_id"])
        columns = [read.get(target, blank) for target in targets]
        for order_id, *facts in zip(read["order_id"], *columns, strict=True):
            known = isinstance(order_id, str) and order_id in self.draft.number
            clean = tuple(None if type(fact) is Bad else fact for fact in facts)
            if known and any(fact is not None for fact in clean):
                kept.setdefault(self.draft.number[order_id], clean)

    def _add_clean(self, people: list[Any], read: dict[str, list[Any]], blank: list[Any]) -> bool:
        """Takes a whole chunk of lines at once.

        False, with no line taken, where any row needs a closer look.
        """
        draft, totals = self.draft, read.get("line_total", blank)
        needed = (people, read["order_id"], read["placed"])
        if not draft.has_lines or any(None in column for column in needed):
            return False
        if None in totals:
            return False
        numbers = list(map(draft.number.__getitem__, read["order_id"]))
        facts = [
            read.get(target, blank) for target in ("placed", "department", "status", "total", "refunded")
        ]
        for at, number in enumerate(numbers):
            if number == len(draft.person):
                draft.begin(people[at], *(column[at] for column in facts))
        if list(map(draft.person.__getitem__, numbers)) != people:
            return False
        named = [read.get(target, blank) for target in ("item_id", "item", "category", "department")]
        draft.line_order.extend(numbers)
        draft.line_item.extend(map(draft.item_number, *named))
        draft.line_quantity.extend(1000 if one is None else one for one in read.get("quantity", blank))
        draft.line_total.extend(totals)
        draft.line_discount.extend(one or 0 for one in read.get("line_discount", blank))
        return True

    def _bad_cells(self, read: dict[str, list[Any]]) -> dict[int, str]:
        """The reason of the first unusable cell of each row, by the row's place in the chunk."""
        bad: dict[int, str] = {}
        for target, values in read.items():
            if self.readers[target].has_bad:
                for at, value in enumerate(values):
                    if type(value) is Bad:
                        bad.setdefault(at, value.reason)
        return bad

    def _add(
        self,
        person: int | None,
        order_id: str | None,
        placed: int | None,
        department: str | None,
        status: str | None,
        total: int | None,
        refunded: int | None,
        item_id: str | None,
        item: str | None,
        category: str | None,
        quantity: int | None,
        line_total: int | None,
        line_discount: int | None,
    ) -> str | None:
        """Takes one clean row into the draft; returns why it cannot be taken."""
        if order_id is None or person is None or placed is None:
            what = "order id" if order_id is None else "customer" if person is None else "day of the order"
            return f"no {what} in this row"
        draft = self.draft
        number = draft.number[order_id]
        if number == len(draft.person):
            draft.begin(person, placed, department, status, total, refunded)
        elif not draft.has_lines:
            return f"the order id “{order_id}” stands in this file twice"
        elif draft.person[number] != person:
            return f"order “{order_id}” names two customers"
        if not draft.has_lines:
            return "no order total in this row" if total is None else None
        if line_total is None and total is None:
            return "no line total in this row"
        kind = draft.item_number(item_id, item, category, department)
        if kind < 0 and line_total is None:
            return None  # the order itself, without lines
        draft.add_line(
            number, kind, 1000 if quantity is None else quantity, line_total or 0, line_discount or 0
        )
        return None

    def _refuse_companions(self, rows: Iterator[Row], refused: Refusals) -> None:
        """Refuses the good lines of orders that have a bad one, reading the file once more."""
        at = self.columns["order_id"]
        reader = self.readers["order_id"]
        for number, cells in rows:
            order_id = reader[cells[at]] if at < len(cells) else None
            first = self.draft.bad.get(order_id) if isinstance(order_id, str) else None
            if first is not None and number not in self.refused_rows:
                refused.add(number, f"row {first} of the same order was refused", cells)


def _readers(columns: ColumnMap, known: PersonResolver, country: str, digits: int) -> dict[str, CellReader]:
    words, money = Text(), Money(digits)
    special: dict[str, CellReader] = {
        "customer_id": Whose(known.by_id, "the id", words),
        "email": Whose(known.by_email, "the email", Email()),
        "phone": Whose(known.by_phone, "the phone", Phone(country)),
        "placed": When(columns.zone, columns.day_first),
        "status": Status(),
        **{target: When(columns.zone, columns.day_first) for target in TIMES},
        "total": money,
        "refunded": money,
        "quantity": Quantity(),
        "line_total": money,
        "unit_price": money,
        "discount": money,
        "line_discount": money,
        "in_person": YesNo(),
    }
    return {target: special.get(target, words) for target in columns.columns}
