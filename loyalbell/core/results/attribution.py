"""What came of a message: orders and revenue, attributed once."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

DEFAULT_WINDOW_DAYS = 5
DAY = 86_400


@dataclass(frozen=True)
class Response:
    """A click (or, where the setting allows, an open) of a person. ``at`` in seconds."""

    origin: int
    at: int


@dataclass(frozen=True)
class Bought:
    """An order of a person. ``money`` is net of refunds, in minor units."""

    order: int
    person: int
    at: int
    money: int


def attribute(
    orders: Iterable[Bought],
    clicks: Mapping[int, list[Response]],
    opens: Mapping[int, list[Response]] | None = None,
    window_days: int = DEFAULT_WINDOW_DAYS,
) -> dict[int, int]:
    """Which origin each order belongs to, as order id → origin; each order at most once.

    The latest click within the window before the order wins; without one, the
    latest open, where ``opens`` are given at all. ``clicks`` and ``opens`` are by person.
    """
    found = {}
    for order in orders:
        for engagements in (clicks, opens or {}):
            origin = _latest(engagements.get(order.person, []), order.at, window_days * DAY)
            if origin is not None:
                found[order.order] = origin
                break
    return found


def _latest(engagements: list[Response], at: int, window: int) -> int | None:
    near = [response for response in engagements if at - window <= response.at <= at]
    return max(near, key=lambda response: response.at).origin if near else None
