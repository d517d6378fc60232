"""Bringing lines of orders in that are on file already: the lines of each order in the file replace
its own.
"""

from collections.abc import Callable, Iterator
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.columns.money_columns import line_total
from loyalbell.storage.files.import_outcome import Outcome, RefusedRows
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.files.tables.table_reader import Row
from loyalbell.storage.long_write import Breathe, never
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.parsers import CellReader, Money, Quantity, Text, values_of
from loyalbell.storage.records.upsert import keep_before
from loyalbell.storage.schema import Order

MANY = 400
REPORT_EVERY = 20_000
Line = tuple[int, int, int, int]


class LinesIn:
    """One import of order lines; the counts are of lines. With ``write`` off nothing is kept."""

    def __init__(
        self, session: Session, columns: ColumnMap, currency: str, import_id: int, write: bool
    ) -> None:
        self.session, self.columns, self.import_id, self.write = session, columns.columns, import_id, write
        money = Money(minor_digits(currency), columns.mark)
        special: dict[str, CellReader] = {
            "quantity": Quantity(columns.mark),
            "line_total": money,
            "unit_price": money,
            "line_discount": money,
        }
        words = Text()
        self.readers = {target: special.get(target, words) for target in self.columns}
        columns.rules.give(self.readers)
        self.names = Names(session, write, import_id)
        self.rows: dict[str, list[tuple[int, list[str], Line]]] = {}

    def run(
        self,
        rows: Iterator[Row],
        refused: RefusedRows,
        progress: Callable[[int], bool],
        breathe: Breathe = never,
    ) -> Outcome:
        for number, cells in rows:
            problem = self._read(number, cells)
            if problem:
                refused.add(number, problem, cells)
            if number % REPORT_EVERY == 0:
                progress(number)
        wanted = list(self.rows)
        for start in range(0, len(wanted), MANY):
            self._orders(wanted[start : start + MANY], refused)
            breathe()
        return refused.outcome

    def _read(self, number: int, cells: list[str]) -> str | Problem | None:
        values, bad = values_of(self.readers, self.columns, cells)
        for target, cell in bad.items():
            return Problem(cell.reason, cell.cause, target, cell.value)
        if "order_id" not in values:
            return "no order id in this row"
        total = values.get("line_total")
        if total is None:
            total = line_total(*map(values.get, ("unit_price", "quantity", "line_discount")))
        if total is None:
            return "no line total in this row"
        item = self.names.item_of(values.get("item_id"), values.get("item"), values.get("category"))
        line = (
            item or 0,
            1_000 if values.get("quantity") is None else values["quantity"],
            total,
            values.get("line_discount") or 0,
        )
        self.rows.setdefault(values["order_id"], []).append((number, cells, line))
        return None

    def _orders(self, externals: list[str], refused: RefusedRows) -> None:
        found = dict(
            self.session.execute(
                select(Order.external_id, Order.id).where(Order.external_id.in_(externals))
            ).all()
        )
        held = self._held(list(found.values()))
        counts, changed = refused.outcome.counts, []
        for external in externals:
            rows = self.rows[external]
            if external not in found:
                for number, cells, _ in rows:
                    words = f"no order with the id “{external}” is on file; import orders first"
                    refused.add(
                        number, Problem(words, "is of an order that is not on file", "order_id"), cells
                    )
                continue
            lines, old = [line for _, _, line in rows], held.get(found[external], [])
            if sorted(lines) == sorted(old):
                counts.unchanged += len(lines)
                continue
            counts.created += max(len(lines) - len(old), 0)
            counts.changed += min(len(lines), len(old))
            changed.append((found[external], lines, old))
        if self.write:
            self._replace(changed)

    def _held(self, order_ids: list[int]) -> dict[int, list[Line]]:
        marks = ", ".join("?" * len(order_ids))
        found: dict[int, list[Line]] = {}
        for order_id, *line in self._cursor().execute(
            "SELECT order_id, coalesce(item_id, 0), quantity, total_minor, discount_minor FROM order_line "
            f"WHERE order_id IN ({marks})",
            order_ids,
        ):
            found.setdefault(order_id, []).append((line[0], line[1], line[2], line[3]))
        return found

    def _replace(self, changed: list[tuple[int, list[Line], list[Line]]]) -> None:
        cursor = self._cursor()
        for order_id, lines, old in changed:
            keep_before(
                self.session, self.import_id, "orders", {"id": order_id, "lines": old}, {"lines": None}
            )
            cursor.execute("DELETE FROM order_line WHERE order_id = ?", (order_id,))
            cursor.executemany(
                "INSERT INTO order_line (order_id, item_id, quantity, total_minor, discount_minor) VALUES (?,"
                " ?, ?, ?, ?)",
                [(order_id, line[0] or None, *line[1:]) for line in lines],
            )

    def _cursor(self) -> Any:
        return self.session.connection().connection.cursor()
