"""The orders of a file while they are read, in compact columns."""

from array import array
from typing import Any


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
        self.line_discount = array("q")
        self.items = Numbered()
        self.item_facts: dict[int, tuple[str | None, str | None, str | None, str | None]] = {}
        self.bad: dict[str, int] = {}
        self.times: dict[int, tuple[int | None, ...]] = {}
        self.more: dict[int, tuple[Any, ...]] = {}
        self.has_lines = False

    def begin(
        self,
        person: int,
        placed: int,
        department: str | None,
        status: str | None,
        total: int | None,
        refunded: int | None,
    ) -> None:
        self.person.append(person)
        self.placed.append(placed)
        self.department.append(department)
        self.status.append(status)
        self.total.append(total)
        self.refunded.append(refunded or 0)

    def item_number(
        self, item_id: str | None, item: str | None, category: str | None, department: str | None
    ) -> int:
        """The number of an item in this file, by its id or else its name; -1 for none."""
        key = item_id if item_id is not None else item
        if key is None:
            return -1
        number = self.items[key]
        if number not in self.item_facts:
            self.item_facts[number] = (item_id, item, category, department)
        return number

    def add_line(self, order: int, item: int, quantity: int, total: int, discount: int = 0) -> None:
        self.line_order.append(order)
        self.line_item.append(item)
        self.line_quantity.append(quantity)
        self.line_total.append(total)
        self.line_discount.append(discount)
