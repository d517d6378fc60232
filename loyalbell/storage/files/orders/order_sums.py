"""What a file of orders holds in all: figures to compare with a till, and whether its own sums agree."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from loyalbell.storage.files.orders.order_draft import Draft

PLACED, CANCELLED, TOTAL = 2, 6, 9
"""Where an order's row holds them (``order_upsert.ORDER_COLUMNS``)."""


def found_in(draft: "Draft", sums: list[int] | None, rows: Sequence[tuple[Any, ...]]) -> dict[str, Any]:
    """``orders``, their ``total`` (minor units) and what of it is of ``cancelled`` ones, ``people``,
    ``lines``, ``first`` and ``last`` (seconds since 1970).

    Of orders with a total of their own and with lines: how many ``compared`` and ``differ``, both sums of
    these, and an ``example`` of one: its id, its own total, the sum of its lines.
    """
    found: dict[str, Any] = {
        "orders": len(rows),
        "people": len({row[0] for row in rows}),
        "total": sum(row[TOTAL] for row in rows),
        "cancelled": sum(row[TOTAL] for row in rows if row[CANCELLED] is not None),
        "lines": len(draft.line_order),
    }
    if rows:
        times = [row[PLACED] for row in rows]
        found |= {"first": min(times), "last": max(times)}
    if sums is not None and any(total is not None for total in draft.total):
        found |= _compared(draft, sums)
    return found


def _compared(draft: "Draft", sums: list[int]) -> dict[str, Any]:
    with_lines = set(draft.line_order)
    both = [
        (external, given, sums[number])
        for external, number in draft.number.items()
        if external not in draft.bad and (given := draft.total[number]) is not None and number in with_lines
    ]
    differ = [order for order in both if order[1] != order[2]]
    return {
        "compared": len(both),
        "differ": len(differ),
        "own_sum": sum(given for _, given, _ in differ),
        "line_sum": sum(summed for _, _, summed in differ),
        "example": list(differ[0]) if differ else None,
    }
