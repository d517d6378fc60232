"""Who meets a rule, for the whole book at once, as of any instant."""

from datetime import datetime

import numpy as np

from loyalbell.core.columns import Mask
from loyalbell.core.ledger import CHANNELS, Ledger
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Condition,
    Group,
    LastDays,
    OrdersCondition,
    Period,
    Rule,
)
from loyalbell.core.timing import days_before, start_of_day

BEGINNING = -(2**62)


def evaluate(rule: Rule, ledger: Ledger, as_of: datetime) -> Mask:
    """True for each person number who is on file at ``as_of`` and meets the rule."""
    return ledger.on_file(_seconds(as_of)) & meets_group(rule.root, ledger, as_of)


def meets_group(group: Group, ledger: Ledger, as_of: datetime) -> Mask:
    """An empty group asks for nothing and is met by everybody."""
    held = np.ones(len(ledger.people), dtype=np.bool_)
    if not group.lines:
        return held
    masks = [meets_line(line, ledger, as_of) for line in group.lines]
    if group.match == "all":
        every: Mask = np.logical_and.reduce(masks)
        return every
    met: Mask = np.logical_or.reduce(masks)
    return met if group.match == "any" else ~met


def meets_line(line: Group | Condition, ledger: Ledger, as_of: datetime) -> Mask:
    if isinstance(line, Group):
        return meets_group(line, ledger, as_of)
    if isinstance(line, OrdersCondition):
        return _meets_orders(line, ledger, as_of)
    reach = ledger.reachable(CHANNELS.index(line.channel), _seconds(as_of))
    return reach if line.can else ~reach


def bounds(period: Period, as_of: datetime, zone: str) -> tuple[int, int]:
    """First and last second that a period covers; the last is never after ``as_of``."""
    now = _seconds(as_of)
    if isinstance(period, LastDays | BeforeLastDays):
        edge = _seconds(start_of_day(days_before(as_of, period.days - 1, zone), zone))
        return (edge, now) if isinstance(period, LastDays) else (BEGINNING, edge - 1)
    return BEGINNING, now


def _meets_orders(line: OrdersCondition, ledger: Ledger, as_of: datetime) -> Mask:
    orders, now = ledger.orders, _seconds(as_of)
    rows = orders.span(*bounds(line.period, as_of, ledger.zone))
    kept = orders.counted(rows, now)
    if line.department is not None:
        kept &= orders.department[rows] == line.department
    money = orders.net_money(rows, now)[kept] if line.measure == "sum" else None
    measured = ledger.per_person(orders.person[rows][kept], money)
    if line.comparison == "at least":
        return np.greater_equal(measured, line.value)
    if line.comparison == "at most":
        return np.less_equal(measured, line.value)
    return np.equal(measured, line.value)


def _seconds(instant: datetime) -> int:
    return int(instant.timestamp())
