"""Which of a till's money columns is the price of one, of the whole line, or of the whole order.

Headings do not say: *Price* and *Amount* stand for each of them. The file's first rows do, where there is a
quantity or an order has several lines; where they do not, what was taken is said, so that somebody looks.
"""

from collections.abc import Sequence

from loyalbell.core.history.money import parse_money
from loyalbell.storage.files.columns.heading_words import plain_heading

DIGITS = 3
"""Decimals that are kept while comparing, whatever the currency has."""
MOSTLY = 0.9
PRICE = ("price", "item price", "sales price", "amount", "preis", "precio", "prix", "価格")
Row = Sequence[str]


def settle_money(columns: dict[str, int], headings: Row, samples: Sequence[Row]) -> tuple[str, ...]:
    """Corrects the first guess in ``columns`` (target to column). Returns what somebody should look at."""
    _price_of_one(columns, headings, samples)
    if "line_total" not in columns and "total" in columns and _is_of_lines(columns, samples):
        columns["line_total"] = columns.pop("total")
    if "unit_price" in columns and "line_total" not in columns:
        return (_say(headings[columns["unit_price"]], columns, samples),)
    return ()


def _price_of_one(columns: dict[str, int], headings: Row, samples: Sequence[Row]) -> None:
    """A price beside a quantity is of one, unless the rows add up to the order's total without it."""
    price, quantity = columns.get("line_total"), columns.get("quantity")
    if price is None or quantity is None or "unit_price" in columns:
        return
    if plain_heading(headings[price]) not in PRICE:
        return
    if not _adds_up(columns, samples, price):
        columns["unit_price"] = columns.pop("line_total")


def _is_of_lines(columns: dict[str, int], samples: Sequence[Row]) -> bool:
    """Whether what looks like an order's total is a line's: quantity times price, or different from line to
    line of one order.
    """
    total, unit, quantity = columns["total"], columns.get("unit_price"), columns.get("quantity")
    if unit is not None and quantity is not None:
        fits = [
            abs(one * many // 10**DIGITS - all_) <= 10
            for row in samples
            if (one := _number(row, unit)) is not None
            and (many := _number(row, quantity)) is not None
            and (all_ := _number(row, total)) is not None
        ]
        if fits and sum(fits) >= MOSTLY * len(fits):
            return True
    if not columns.keys() & {"item", "item_id"}:
        return False
    orders = [[_number(row, total) for row in rows] for rows in _by_order(columns, samples) if len(rows) > 1]
    return bool(orders) and sum(len(set(found)) > 1 for found in orders) > len(orders) / 2


def _adds_up(columns: dict[str, int], samples: Sequence[Row], price: int) -> bool:
    """Whether the prices of an order's lines, as they stand, make its total."""
    total = columns.get("total")
    if total is None:
        return False
    fits = []
    for rows in _by_order(columns, samples):
        sums = [_number(row, price) for row in rows]
        whole = _number(rows[0], total)
        # an order that the sample cuts off says nothing
        if (
            None not in sums
            and whole is not None
            and any(_number(row, columns["quantity"]) != 10**DIGITS for row in rows)
        ):
            fits.append(abs(sum(one or 0 for one in sums) - whole) <= 10)
    return bool(fits) and sum(fits) >= MOSTLY * len(fits)


def _by_order(columns: dict[str, int], samples: Sequence[Row]) -> list[list[Row]]:
    found: dict[str, list[Row]] = {}
    for row in samples:
        at = columns.get("order_id")
        if at is not None and at < len(row) and row[at].strip():
            found.setdefault(row[at].strip(), []).append(row)
    return list(found.values())


def _number(row: Row, at: int) -> int | None:
    try:
        return parse_money(row[at], DIGITS) if at < len(row) and row[at].strip() else None
    except ValueError:
        return None


def _say(heading: str, columns: dict[str, int], samples: Sequence[Row]) -> str:
    """With an example of the file where a line has more than one."""
    at, quantity = columns["unit_price"], columns.get("quantity")
    for row in samples:
        one, many = _number(row, at), _number(row, quantity) if quantity is not None else None
        if one and many and many != 10**DIGITS:
            return (
                f"“{heading}” is read as the price of one: {_plain(many)} × {_plain(one)} ="
                f" {_plain(one * many // 10**DIGITS)}. If it is already for all of them, choose “line total”."
            )
    return f"“{heading}” is read as the price of one. If it is for the whole line, choose “line total”."


def _plain(thousandths: int) -> str:
    text = f"{thousandths / 10**DIGITS:.2f}"
    return text.removesuffix(".00")


def line_total(unit: int | None, quantity: int | None, discount: int | None = None) -> int | None:
    """Minor units of ``quantity`` (thousandths; one where it is not given) at the price of one, rounded half
    away from zero, less the line's discount.
    """
    if unit is None:
        return None
    exact = unit * (1_000 if quantity is None else quantity)
    whole = (abs(exact) + 500) // 1_000
    return (whole if exact >= 0 else -whole) - (discount or 0)
