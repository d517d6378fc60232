"""Writing the orders of a file: new ones created, known ones compared and mended."""

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.storage.change_tracking import insert_many
from loyalbell.storage.files.import_outcome import Counts
from loyalbell.storage.files.orders.order_sums import found_in
from loyalbell.storage.long_write import Breathe, never
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.person_resolver import next_number
from loyalbell.storage.records.upsert import keep_before
from loyalbell.storage.schema import Department, Item, Order

if TYPE_CHECKING:
    from loyalbell.storage.files.orders.order_draft import Draft

Line = tuple[int, int, int, int]
OrderRow = tuple[Any, ...]

ORDER_COLUMNS = (
    "person_id, department_id, placed_at, confirmed_at, shipped_at, delivered_at, "
    "cancelled_at, refunded_at, refunded_minor, total_minor, location_id, staff_id, discount_minor, "
    "in_person, tracking_code, tracking_url"
)


NO_TIMES: tuple[int | None, ...] = (None,) * 4
NO_MORE: tuple[Any, ...] = (None,) * 6
FEW, MANY = 5_000, 400
SLICE = 20_000
"""Rows written before others may get their turn."""


def _times(status: str | None, placed: int) -> tuple[int | None, ...]:
    """A file gives one time and one status: the order reached that status then."""
    return tuple(
        placed if status == name else None for name in ("confirmed", "shipped", "delivered", "cancelled")
    )


Part = TypeVar("Part")


def _slices(rows: list[Part]) -> list[list[Part]]:
    return [rows[start : start + SLICE] for start in range(0, len(rows), SLICE)]


class OrdersWrite:
    """Takes a finished draft to the tables, in the transaction of ``session``."""

    def __init__(
        self,
        session: Session,
        draft: "Draft",
        currency: str,
        import_id: int | None,
        write: bool,
        totals_of: str = "",
    ) -> None:
        self.session, self.draft, self.currency, self.totals_of = session, draft, currency, totals_of
        self.import_id, self.write = import_id, write

    def finish(self, counts: Counts, breathe: Breathe = never) -> dict[str, Any]:
        """Returns what the file holds in all (``order_sums.found_in``)."""
        self._number_departments()
        self._number_items()
        self.names = Names(self.session, self.write, self.import_id)
        totals = self._line_sums()
        known = self._known_orders()
        fresh: list[tuple[int, str, OrderRow]] = []
        compare: list[tuple[int, int, OrderRow]] = []
        for place, (external, number) in enumerate(self.draft.number.items(), 1):
            if external in self.draft.bad:
                continue
            row = self._row(number, totals)
            if external in known:
                compare.append((number, known[external], row))
            else:
                fresh.append((number, external, row))
            if place % FEW == 0:
                breathe()
        # numbers are given when nobody else can any more, right before the highest of them is written
        first = next_number(self.session, Order.id)
        ids = {number: order_id for order_id, (number, _, _) in enumerate(fresh, first)}
        new: list[tuple[Any, ...]] = [
            (order_id, external, *row, self.currency, self.import_id)
            for order_id, (_, external, row) in enumerate(fresh, first)
        ]
        counts.created += len(new)
        changed = self._changed(compare)
        counts.changed += len(changed)
        counts.unchanged += len(compare) - len(changed)
        if self.write:
            self._insert(new, ids, breathe)
            for some in _slices(changed):
                self._keep_before(some)
                self._replace(some)
                breathe()
            self.written = ids | {number: order_id for number, order_id, _ in compare}
        return found_in(self.draft, totals, [row for _, _, row in (*fresh, *compare)])

    def _row(self, number: int, totals: list[int] | None) -> OrderRow:
        draft = self.draft
        given, department = draft.total[number], draft.department[number]
        summed = totals is not None and (given is None or self.totals_of == "lines")
        total = totals[number] if totals is not None and summed else given or 0
        placed, status = draft.placed[number], draft.status[number]
        refunded = draft.refunded[number] or (total if status == "refunded" else 0)
        times = NO_TIMES if status in (None, "placed") else _times(status, placed)
        back_at = placed if refunded else None
        if number in draft.times:
            stated = draft.times[number]
            times = tuple(own or other for own, other in zip(stated[:4], times, strict=True))
            back_at = stated[4] or back_at
        location, staff, discount, in_person, *tracking = draft.more.get(number, NO_MORE)
        return (
            draft.person[number],
            self.departments[department] if department else None,
            placed,
            *times,
            back_at,
            refunded,
            total,
            self.names.id_of("location", location),
            self.names.id_of("staff", staff),
            discount or 0,
            int(times[1] is None if in_person is None else in_person),
            *tracking,
        )

    def _line_sums(self) -> list[int] | None:
        """Of each order the sum of its lines less its discount, where the file has lines."""
        if not self.draft.has_lines:
            return None
        sums = np.zeros(len(self.draft.person), dtype=np.int64)
        np.add.at(sums, np.array(self.draft.line_order, dtype=np.int64), np.array(self.draft.line_total))
        found: list[int] = sums.tolist()
        for number, more in self.draft.more.items():
            found[number] -= more[2] or 0
        return found

    def _number_departments(self) -> None:
        rows = self.session.execute(select(Department.name, Department.id)).all()
        self.departments: dict[str, int] = dict(rows)
        named = [*self.draft.department, *(facts[3] for facts in self.draft.item_facts.values())]
        for name in dict.fromkeys(name for name in named if name):
            if name in self.departments:
                continue
            department = max(self.departments.values(), default=0) + 1
            self.departments[name] = department
            if self.write:
                self._many("INSERT INTO department (id, name) VALUES (?, ?)", [(department, name)])

    def _number_items(self) -> None:
        by_id: dict[str, int] = {}
        by_name: dict[str, int] = {}
        next_id = 1
        for item in self.session.execute(select(Item.id, Item.external_id, Item.name)):
            by_name.setdefault(item.name, item.id)
            if item.external_id:
                by_id[item.external_id] = item.id
            next_id = max(next_id, item.id + 1)
        self.items: list[int] = []
        new = []
        for external, name, category, department in self.draft.item_facts.values():
            found = by_id.get(external) if external else by_name.get(name or "")
            if found is None:
                found, next_id = next_id, next_id + 1
                where = self.departments[department] if department else None
                new.append((found, external, name or external, category, where))
            self.items.append(found)
        if self.write:
            self._many(
                "INSERT INTO item (id, external_id, name, category, department_id, import_id) VALUES (?, ?,"
                " ?, ?, ?, ?)",
                ((*facts, self.import_id) for facts in new),
            )

    def _known_orders(self) -> dict[str, int]:
        if len(self.draft.number) < FEW:
            wanted = list(self.draft.number)
            some = [wanted[start : start + MANY] for start in range(0, len(wanted), MANY)]
            return {
                external: order_id
                for names in some
                for external, order_id in self.session.execute(
                    select(Order.external_id, Order.id).where(Order.external_id.in_(names))
                )
                if external is not None
            }
        rows = self.session.connection().exec_driver_sql(
            "SELECT external_id, id FROM orders WHERE external_id IS NOT NULL"
        )
        return {external: order_id for external, order_id in rows if external in self.draft.number}

    def _changed(self, compare: list[tuple[int, int, OrderRow]]) -> list[tuple[int, int, OrderRow]]:
        if not compare:
            return []
        lines = self._lines_by_order({number for number, _, _ in compare})
        rows, old_lines = self._stored({order_id for _, order_id, _ in compare})
        return [
            (number, order_id, row)
            for number, order_id, row in compare
            if rows[order_id] != row
            or (self.draft.has_lines and sorted(lines[number]) != sorted(old_lines.get(order_id, [])))
        ]

    def _lines_by_order(self, numbers: set[int]) -> dict[int, list[Line]]:
        found: dict[int, list[Line]] = {number: [] for number in numbers}
        for number, item, quantity, money, discount in self._lines():
            if number in found:
                found[number].append((item or 0, quantity, money, discount))
        return found

    def _stored(self, ids: set[int]) -> tuple[dict[int, OrderRow], dict[int, list[Line]]]:
        connection = self.session.connection()
        low, high = min(ids), max(ids)
        rows = {
            found[0]: tuple(found[1:])
            for found in connection.exec_driver_sql(
                f"SELECT id, {ORDER_COLUMNS} FROM orders WHERE id BETWEEN ? AND ?", (low, high)
            )
            if found[0] in ids
        }
        lines: dict[int, list[Line]] = {}
        for order_id, item, quantity, money, discount in connection.exec_driver_sql(
            "SELECT order_id, coalesce(item_id, 0), quantity, total_minor, discount_minor FROM order_line "
            "WHERE order_id BETWEEN ? AND ?",
            (low, high),
        ):
            lines.setdefault(order_id, []).append((item, quantity, money, discount))
        return rows, lines

    def _lines(self) -> Iterator[tuple[int, int | None, int, int, int]]:
        draft, items = self.draft, self.items
        for number, kind, quantity, money, discount in zip(
            draft.line_order,
            draft.line_item,
            draft.line_quantity,
            draft.line_total,
            draft.line_discount,
            strict=True,
        ):
            yield number, None if kind < 0 else items[kind], quantity, money, discount

    def _insert(self, new: list[tuple[Any, ...]], ids: dict[int, int], breathe: Breathe) -> None:
        marks = ", ".join("?" * 20)
        sql = f"INSERT INTO orders (id, external_id, {ORDER_COLUMNS}, currency, import_id) VALUES ({marks})"
        # the last ones first: an order that somebody else brings in between gets a number above all of these
        slices = _slices(new)
        for some in (*slices[-1:], *slices[:-1]):
            keys = np.array([row[0] for row in some], dtype=np.int64)
            insert_many(self.session, "orders", sql, some, keys)
            breathe()
        self._insert_lines(ids, breathe)

    def _insert_lines(self, ids: dict[int, int], breathe: Breathe = never) -> None:
        """Lines of the orders in ``ids`` (number in the file → id in the book)."""
        draft, named = self.draft, [*self.items, None]  # item -1, for none, is the last
        target = np.zeros(len(draft.person), dtype=np.int64)
        target[list(ids)] = list(ids.values())
        orders = target[np.array(draft.line_order, dtype=np.int64)]
        kept = orders > 0
        items, quantities, totals, discounts = (
            np.array(column, dtype=np.int64)[kept].tolist()
            for column in (draft.line_item, draft.line_quantity, draft.line_total, draft.line_discount)
        )
        of = orders[kept]
        for start in range(0, len(of), SLICE):
            part = slice(start, start + SLICE)
            insert_many(
                self.session,
                "order_line",
                "INSERT INTO order_line (order_id, item_id, quantity, total_minor, discount_minor) VALUES (?,"
                " ?, ?, ?, ?)",
                zip(
                    of[part].tolist(),
                    map(named.__getitem__, items[part]),
                    quantities[part],
                    totals[part],
                    discounts[part],
                    strict=True,
                ),
                of[part],
            )
            breathe()

    def _replace(self, changed: list[tuple[int, int, OrderRow]]) -> None:
        sets = ", ".join(f"{name.strip()} = ?" for name in ORDER_COLUMNS.split(","))
        self._many(
            f"UPDATE orders SET {sets} WHERE id = ?", [(*row, order_id) for _, order_id, row in changed]
        )
        if self.draft.has_lines:
            self._many(
                "DELETE FROM order_line WHERE order_id = ?", [(order_id,) for _, order_id, _ in changed]
            )
            self._insert_lines({number: order_id for number, order_id, _ in changed})

    def _many(self, sql: str, rows: Iterable[tuple[Any, ...]]) -> None:
        """Straight to SQLite: a million rows through the object layer would take minutes."""
        cursor: Any = self.session.connection().connection.cursor()
        cursor.executemany(sql, rows)

    def _keep_before(self, changed: list[tuple[int, int, OrderRow]]) -> None:
        """Notes the orders that will be changed, with their lines, so that the import can be undone."""
        if self.import_id is None or not changed:
            return
        rows, lines = self._stored({order_id for _, order_id, _ in changed})
        names = [name.strip() for name in ORDER_COLUMNS.split(",")]
        for _, order_id, _ in changed:
            old: dict[str, Any] = dict(zip(names, rows[order_id], strict=True)) | {"id": order_id}
            if self.draft.has_lines:
                old["lines"] = lines.get(order_id, [])
            keep_before(
                self.session, self.import_id, "orders", old, {name: None for name in old if name != "id"}
            )
