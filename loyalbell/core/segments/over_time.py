"""The size of a segment on each of many days, without asking everything anew for each."""

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.columns import NEVER, Ints, Mask
from loyalbell.core.ledger import Ledger
from loyalbell.core.segments.evaluate import Asking, meets_line
from loyalbell.core.segments.history import COMPARE
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Condition,
    Ever,
    Group,
    LastDays,
    OrdersCondition,
    Rule,
)
from loyalbell.core.timing import at_local
from loyalbell.core.visits import local_days

CHUNK = 25_000
Days = NDArray[np.bool_]
Report = Callable[[float, str], None]


def sizes(
    rule: Rule,
    ledger: Ledger,
    instants: Sequence[datetime],
    segments: Mapping[int, Rule] | None = None,
    report: Report = lambda share, words: None,
) -> list[int]:
    """How many met the rule at each of the instants (ascending); the same as ``evaluate`` at each."""
    if not instants:
        return []
    asking = _Series(ledger, instants, segments or {}, report)
    asking.prepare(rule.root)
    total = np.zeros(len(instants), dtype=np.int64)
    people = len(ledger.people)
    for low in range(0, people, CHUNK):
        high = min(low + CHUNK, people)
        total += (asking.group(rule.root, low, high) & asking.on_file(low, high)).sum(axis=1)
        report(high / people, "counting day by day")
    return [int(one) for one in total]


class _Series:
    """Masks of instants x people, for a run of people at a time."""

    def __init__(
        self, ledger: Ledger, instants: Sequence[datetime], segments: Mapping[int, Rule], report: Report
    ) -> None:
        self.ledger, self.instants, self.segments, self.report = ledger, instants, segments, report
        self.at: Ints = np.array([int(one.timestamp()) for one in instants], dtype=np.int64)
        self.days = local_days(self.at, ledger.zone)
        self.whole: dict[int, Days] = {}
        self.order_days = local_days(ledger.orders.at, ledger.zone)

    def prepare(self, group: Group) -> None:
        """Asks the lines that cannot be counted day by day once for each instant."""
        for line in group.lines:
            if isinstance(line, Group):
                self.prepare(line)
            elif not _countable(line) and id(line) not in self.whole:
                asked = []
                for at, instant in enumerate(self.instants):
                    asked.append(meets_line(line, Asking(self.ledger, instant, self.segments)))
                    self.report(at / len(self.instants), "asking day by day")
                self.whole[id(line)] = np.stack(asked)

    def group(self, group: Group, low: int, high: int) -> Days:
        if not group.lines:
            return np.ones((len(self.at), high - low), dtype=np.bool_)
        found = None
        for line in group.lines:
            met = self.group(line, low, high) if isinstance(line, Group) else self.line(line, low, high)
            if found is None:
                found = met.copy()
            elif group.match == "all":
                found &= met
            else:
                found |= met
        assert found is not None
        return ~found if group.match == "none" else found

    def line(self, line: Condition, low: int, high: int) -> Days:
        if id(line) in self.whole:
            return self.whole[id(line)][:, low:high]
        assert isinstance(line, OrdersCondition)
        return self.orders(line, low, high)

    def orders(self, line: OrdersCondition, low: int, high: int) -> Days:
        """Each order counts from the first to the last instant at which it lies in the period and stands."""
        part = self.ledger.orders
        rows = (part.person >= low) & (part.person < high)
        if line.department is not None:
            rows &= part.department == line.department
        if line.location is not None:
            rows &= part.location == line.location
        if line.least is not None:
            rows &= part.money >= line.least
        begin, end = self._interval(line, rows)
        person = part.person[rows] - low
        table = np.zeros(
            (len(self.at) + 1, high - low), dtype=np.int64 if line.measure == "sum" else np.int32
        )
        counts = end > begin
        weight = part.money[rows] if line.measure == "sum" else np.ones(len(person), dtype=np.int64)
        self._add(table, begin[counts], end[counts], person[counts], weight[counts])
        if line.measure == "sum":
            back = np.maximum(begin, np.searchsorted(self.at, part.refunded_at[rows]))
            less = counts & (part.refunded[rows] > 0) & (end > back)
            self._add(table, back[less], end[less], person[less], -part.refunded[rows][less])
        found: Mask = COMPARE[line.comparison](np.cumsum(table[:-1], axis=0), line.value)
        return found

    def _interval(self, line: OrdersCondition, rows: Mask) -> tuple[Ints, Ints]:
        part, day = self.ledger.orders, self.order_days[rows]
        begin = np.searchsorted(self.at, part.at[rows])
        end = np.searchsorted(self.at, part.void_at[rows])
        if isinstance(line.period, LastDays):
            end = np.minimum(end, np.searchsorted(self.days, day + line.period.days - 1, side="right"))
        elif isinstance(line.period, BeforeLastDays):
            begin = np.maximum(begin, np.searchsorted(self.days, day + line.period.days))
        return begin, end

    @staticmethod
    def _add(table: NDArray[Any], begin: Ints, end: Ints, person: Any, weight: Ints) -> None:
        np.add.at(table, (begin, person), weight.astype(table.dtype))
        np.subtract.at(table, (end, person), weight.astype(table.dtype))

    def on_file(self, low: int, high: int) -> Days:
        people = self.ledger.people
        joined = people.joined_at[low:high].copy()
        for part in (
            self.ledger.orders,
            self.ledger.walk_ins,
            self.ledger.appointments,
            self.ledger.events,
            self.ledger.memberships,
        ):
            rows = (part.person >= low) & (part.person < high)
            np.minimum.at(joined, part.person[rows] - low, part.at[rows])
        gone = np.minimum(people.closed_at[low:high], people.deceased_at[low:high])
        erased = people.joined_at[low:high] >= NEVER
        at = self.at[:, None]
        found: Days = (joined <= at) & (gone > at) & ~erased
        return found


def _countable(line: Condition) -> bool:
    return (
        isinstance(line, OrdersCondition)
        and line.measure in ("count", "sum")
        and line.nth is None
        and isinstance(line.period, Ever | LastDays | BeforeLastDays)
    )


def daily_instants(as_of: datetime, zone: str, days: int) -> list[datetime]:
    """The same time of the shop's day on each of the ``days`` days until ``as_of``, that included."""
    local = as_of.astimezone(ZoneInfo(zone))
    found = [
        at_local(local.date() - timedelta(days=ago), local.time(), zone) for ago in range(days - 1, 0, -1)
    ]
    return [*found, as_of.astimezone(UTC)]
