"""Bringing orders in from a table with a row per order or a row per line.

The file is read once into compact columns; an order stands or falls as a whole,
so one bad line refuses the order it belongs to.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.columns.day_and_time import PARTNERS, DayAndTime
from loyalbell.storage.files.columns.money_columns import line_total
from loyalbell.storage.files.import_outcome import Outcome, Refusals
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.files.orders.order_draft import Draft
from loyalbell.storage.files.orders.order_people import OrderPeople
from loyalbell.storage.files.orders.order_upsert import OrdersWrite
from loyalbell.storage.files.tables.table_reader import Row, chunks_of
from loyalbell.storage.long_write import Breathe, never
from loyalbell.storage.records.date_cells import When
from loyalbell.storage.records.parsers import (
    Bad,
    CellReader,
    Money,
    Quantity,
    Text,
    Unreadable,
    YesNo,
)
from loyalbell.storage.records.person_resolver import PersonResolver, load_person_resolver

CHUNK = 20_000
NAMING = ("customer_id", "email", "phone", "customer_name")
MORE = ("location", "staff", "discount", "in_person", "tracking", "tracking_url")
TIMES = ("confirmed_at", "shipped_at", "delivered_at", "cancelled_at", "refunded_at")
DISPENSABLE = frozenset((*TIMES, "in_person", "location", "staff", "tracking", "tracking_url"))
WANTED = tuple(
    "order_id placed department status total refunded item_id item category quantity line_total "
    "line_discount".split()
)
STATUSES = {
    "placed": frozenset(
        "placed,new,open,pending,paid,complete,completed,closed,done,ok,sale,sold,authorized,captured,unfulfilled,"
        "bezahlt,offen,neu,abgeschlossen,verkauf,pagado,pagada,nuevo,abierto,completado,venta,payé,payée,nouveau,"
        "ouvert,terminé,vente,支払済,完了".split(",")
    ),
    "confirmed": frozenset(
        "confirmed,accepted,processing,in progress,bestätigt,in bearbeitung,confirmado,en proceso,confirmé,"
        "en cours".split(",")
    ),
    "shipped": frozenset(
        "shipped,sent,dispatched,partially shipped,versendet,versandt,enviado,expédié,expédiée,発送済".split(
            ","
        )
    ),
    "delivered": frozenset(
        "delivered,received,fulfilled,collected,picked up,geliefert,zugestellt,abgeholt,entregado,recogido,"
        "livré,livrée,retiré,配達済".split(",")
    ),
    "cancelled": frozenset(
        "cancelled,canceled,void,voided,storniert,storno,abgebrochen,cancelado,cancelada,anulado,annulé,annulée,"
        "キャンセル".split(",")
    ),
    "refunded": frozenset(
        "refunded,returned,refund,return,erstattet,rückerstattet,retoure,reembolsado,devuelto,remboursé,"
        "remboursée,retourné,返金済".split(",")
    ),
}


class Status(CellReader):
    """Which of the status columns a word stands for."""

    def read(self, text: str) -> str:
        for status, words in STATUSES.items():
            if text.casefold() in words:
                return status
        raise Unreadable(text, "is not a known status", f"; use {', '.join(STATUSES)}")


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
        self.import_id = import_id
        self.people = OrderPeople(session, columns, country, known or load_person_resolver(session), write)
        self.readers = _readers(columns, minor_digits(currency))
        columns.rules.give(self.readers)
        columns.rules.give(self.people.readers)
        self.joins = DayAndTime(self.columns)
        self.timed = bool(self.columns.keys() & set(TIMES))
        self.detailed = bool(self.columns.keys() & set(MORE))
        self.refused_rows: set[int] = set()
        self.writer = OrdersWrite(session, self.draft, currency, import_id, write, columns.totals_of)

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
        refused.outcome.found = self.writer.finish(refused.outcome.counts, breathe)
        refused.outcome.found["people_made"] = self.people.made
        return refused.outcome

    def _take(self, chunk: list[Row]) -> None:
        if not chunk:
            return
        width = 1 + max(self.columns.values())
        padded = [cells if len(cells) >= width else cells + [""] * width for _, cells in chunk]
        columns: list[Sequence[str]] = list(zip(*padded, strict=False))
        for day, clock in self.joins.pairs:
            columns[day] = self.joins.join_column(columns[day], columns[clock])
        read = {
            target: list(map(self.readers[target].__getitem__, columns[at]))
            for target, at in self.columns.items()
            if target in self.readers
        }
        whose = {target: columns[self.columns[target]] for target in NAMING if target in self.columns}
        people, unknown = self.people.of_rows(whose, self.import_id)
        bad = self._bad_cells(read, chunk) | unknown
        blank = [None] * len(chunk)
        if "unit_price" in read:
            read["line_total"] = self._line_totals(read, blank)
        if bad or not self._add_clean(people, read, blank):
            self._add_rows(chunk, people, read, bad)
        if self.timed:
            self._note(read, TIMES, self.draft.times)
        if self.detailed:
            self._note(read, MORE, self.draft.more)

    def _line_totals(self, read: dict[str, list[Any]], blank: list[Any]) -> list[int | None]:
        """Of each row what the file says, else the price of one times the quantity less the discount."""
        columns = (read["unit_price"], read.get("quantity", blank), read.get("line_discount", blank))
        return [
            total
            if total is not None
            else line_total(*(None if type(fact) is Bad else fact for fact in facts))
            for total, *facts in zip(read.get("line_total", blank), *columns, strict=True)
        ]

    def _add_rows(
        self, chunk: list[Row], people: list[Any], read: dict[str, list[Any]], bad: dict[int, Problem]
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

    def _bad_cells(self, read: dict[str, list[Any]], chunk: list[Row]) -> dict[int, Problem]:
        """The first unusable cell of each row, by the row's place in the chunk. Those that an order can do
        without are left out.
        """
        bad: dict[int, Problem] = {}
        for target, values in read.items():
            if self.readers[target].has_bad:
                for at, value in enumerate(values):
                    if type(value) is not Bad:
                        continue
                    problem = Problem(value.reason, value.cause, target, value.value)
                    if target in DISPENSABLE:
                        self.refused.leave_out(chunk[at][0], problem, chunk[at][1])
                        values[at] = None
                    else:
                        bad.setdefault(at, problem)
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
    ) -> str | Problem | None:
        """Takes one clean row into the draft; returns why it cannot be taken."""
        if order_id is None or person is None or placed is None:
            what = "order id" if order_id is None else "customer" if person is None else "day of the order"
            return f"no {what} in this row"
        draft = self.draft
        number = draft.number[order_id]
        if number == len(draft.person):
            draft.begin(person, placed, department, status, total, refunded)
        elif not draft.has_lines:
            return Problem(
                f"the order id “{order_id}” is in this file twice",
                "is an order id that is here twice",
            )
        elif draft.person[number] != person:
            return Problem(f"order “{order_id}” names two customers", "is an order that names two customers")
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
                words = f"row {first} of the same order was refused"
                refused.add(number, Problem(words, "is of an order of which another row was refused"), cells)


def _readers(columns: ColumnMap, digits: int) -> dict[str, CellReader]:
    words, money = Text(), Money(digits, columns.mark)
    special: dict[str, CellReader] = {
        "placed": When(columns.zone, columns.day_first),
        "status": Status(),
        **{target: When(columns.zone, columns.day_first) for target in TIMES},
        "total": money,
        "refunded": money,
        "quantity": Quantity(columns.mark),
        "line_total": money,
        "unit_price": money,
        "discount": money,
        "line_discount": money,
        "in_person": YesNo(),
    }
    beside = {*PARTNERS.values(), *NAMING}
    return {target: special.get(target, words) for target in columns.columns if target not in beside}
