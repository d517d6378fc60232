"""The size of a segment on each of many days, without asking everything anew for each."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.clock.local_time import at_local
from loyalbell.core.history.columns import NEVER, Ints, Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.conditions.measuring import COMPARE
from loyalbell.core.segments.evaluation import RuleEvaluation, meets_line
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Condition,
    Ever,
    Group,
    LastDays,
    OrdersCondition,
    Rule,
)

CHUNK = 10_000
Days = NDArray[np.bool_]
Report = Callable[[float, str], None]


def sizes(
    rule: Rule,
    snapshot: HistorySnapshot,
    instants: Sequence[datetime],
    segments: Mapping[int, Rule] | None = None,
    report: Report = lambda share, words: None,
) -> list[int]:
    """How many met the rule at each of the instants (ascending); the same as ``evaluate`` at each."""
    if not instants:
        return []
    evaluation = _Series(snapshot, instants, segments or {}, report)
    evaluation.prepare(rule.root)
    total = np.zeros(len(instants), dtype=np.int64)
    people = len(snapshot.people)
    for low in range(0, people, CHUNK):
        high = min(low + CHUNK, people)
        total += (evaluation.group(rule.root, low, high) & evaluation.on_file(low, high)).sum(axis=0)
        report(high / people, "counting day by day")
    return [int(one) for one in total]


def days_met(
    rule: Rule, snapshot: HistorySnapshot, instants: Sequence[datetime], segments: Mapping[int, Rule]
) -> Days:
    """Who met the rule at each of the instants (ascending): people x instants, the same as ``evaluate``."""
    people = len(snapshot.people)
    found = np.zeros((people, len(instants)), dtype=np.bool_)
    evaluation = _Series(snapshot, instants, segments, lambda share, words: None)
    evaluation.prepare(rule.root)
    for low in range(0, people, CHUNK):
        high = min(low + CHUNK, people)
        found[low:high] = evaluation.group(rule.root, low, high) & evaluation.on_file(low, high)
    return found


@dataclass(frozen=True)
class _Intervals:
    """The rows of a line by person: between which instants each counts, and for how much.

    ``back`` is from when on ``less`` of it was given back.
    """

    person: Ints
    begin: Any
    end: Any
    weight: Any
    back: Any
    less: Any


class _Series:
    """Masks of people x instants, for a run of people at a time."""

    def __init__(
        self,
        snapshot: HistorySnapshot,
        instants: Sequence[datetime],
        segments: Mapping[int, Rule],
        report: Report,
    ) -> None:
        self.snapshot, self.instants, self.segments, self.report = snapshot, instants, segments, report
        self.at: Ints = np.array([int(instant.timestamp()) for instant in instants], dtype=np.int64)
        self.index = np.arange(len(self.at), dtype=np.int16)
        self.days = local_days(self.at, snapshot.zone)
        self.has_sums = bool((snapshot.people.before_last < NEVER).any())
        self.whole: dict[int, Days] = {}
        self.counted: dict[int, _Intervals] = {}
        gone = np.minimum(snapshot.people.closed_at, snapshot.people.deceased_at)
        self.here = self._index(self._first_seen()), self._index(gone)
        orders = snapshot.orders
        order = np.argsort(orders.person, kind="stable")
        self.order, self.columns = order, dict[str, Any]()
        self.person: Ints = self._column("person").astype(np.int64)
        self.order_day = local_days(orders.at, snapshot.zone).astype(np.int32)[order]
        self.begin = np.searchsorted(self.at, orders.at).astype(np.int32)[order]
        self.end = np.full(len(order), len(self.at), dtype=np.int32)
        void_at = self._column("void_at")
        void = np.flatnonzero(void_at < NEVER)
        self.end[void] = np.searchsorted(self.at, void_at[void])

    def _index(self, at: Ints) -> Any:
        """The first instant on or after each of these."""
        return np.searchsorted(self.at, at).astype(np.int16)

    def _column(self, name: str) -> Any:
        """A column of the orders, by person."""
        if name not in self.columns:
            self.columns[name] = getattr(self.snapshot.orders, name)[self.order]
        return self.columns[name]

    def prepare(self, group: Group) -> None:
        """Works out the intervals of each line, and asks those that have none once for each instant."""
        for line in group.lines:
            if isinstance(line, Group):
                self.prepare(line)
            elif _countable(line) and not self.has_sums:
                assert isinstance(line, OrdersCondition)
                self.counted[id(line)] = self._intervals(line)
            elif id(line) not in self.whole:
                asked = []
                for at, instant in enumerate(self.instants):
                    asked.append(meets_line(line, RuleEvaluation(self.snapshot, instant, self.segments)))
                    self.report(at / len(self.instants), "asking day by day")
                self.whole[id(line)] = np.stack(asked, axis=1)

    def group(self, group: Group, low: int, high: int) -> Days:
        if not group.lines:
            return np.ones((high - low, len(self.at)), dtype=np.bool_)
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
            return self.whole[id(line)][low:high]
        assert isinstance(line, OrdersCondition)
        return self._compared(line, low, high)

    def _intervals(self, line: OrdersCondition) -> _Intervals:
        """Each order counts from the first to the last instant at which it lies in the period and stands."""
        kept = np.ones(len(self.person), dtype=np.bool_)
        for name in ("department", "location"):
            wanted = getattr(line, name)
            if wanted is not None:
                kept &= self._column(name) == wanted
        if line.least is not None:
            kept &= self._column("money") >= line.least
        begin, end = self.begin, self.end
        if isinstance(line.period, LastDays):
            end = np.minimum(end, self._by_day(line.period.days - 1, "right"))
        elif isinstance(line.period, BeforeLastDays):
            begin = np.maximum(begin, self._by_day(line.period.days, "left"))
        kept &= end > begin
        person, begin, end = self.person[kept], begin[kept], end[kept]
        if line.measure == "count":
            one, none = np.ones(len(person), dtype=np.int32), np.zeros(len(person), dtype=np.int32)
            return _Intervals(person, begin, end, one, begin, none)
        back = np.maximum(begin, np.searchsorted(self.at, self._column("refunded_at")[kept]))
        less = np.where(back < end, self._column("refunded")[kept], 0)
        return _Intervals(person, begin, end, self._column("money")[kept], back, less)

    def _by_day(self, later: int, side: Literal["left", "right"]) -> Any:
        """For each order the first instant on (left) or after (right) the day that lies ``later`` days after
        its own.
        """
        if not len(self.order_day):
            return self.begin
        low, high = int(self.order_day.min()), int(self.order_day.max())
        table = np.searchsorted(self.days, np.arange(low, high + 1) + later, side=side).astype(np.int32)
        return table[self.order_day - low]

    def _compared(self, line: OrdersCondition, low: int, high: int) -> Days:
        rows, width = self.counted[id(line)], len(self.at) + 1
        first, last = np.searchsorted(rows.person, (low, high))
        mine = slice(int(first), int(last))
        table = np.zeros((high - low) * width, dtype=np.int64 if line.measure == "sum" else np.int32)
        row = (rows.person[mine] - low) * width
        weight = rows.weight[mine].astype(table.dtype)
        np.add.at(table, row + rows.begin[mine], weight)
        within = np.flatnonzero(rows.end[mine] < len(self.at))
        np.subtract.at(table, (row + rows.end[mine])[within], weight[within])
        given = np.flatnonzero(rows.less[mine])
        if len(given):
            less = rows.less[mine][given].astype(table.dtype)
            np.subtract.at(table, (row + rows.back[mine])[given], less)
            np.add.at(table, (row + rows.end[mine])[given], less)
        counted = table.reshape(-1, width)
        np.cumsum(counted, axis=1, out=counted)
        found: Mask = COMPARE[line.comparison](counted[:, :-1], line.value)
        return found

    def _first_seen(self) -> Ints:
        """When each became a customer: as said, or by the first thing they are known to have done."""
        snapshot = self.snapshot
        first = snapshot.people.joined_at.copy()
        erased = first >= NEVER
        for part in (
            snapshot.orders,
            snapshot.walk_ins,
            snapshot.appointments,
            snapshot.events,
            snapshot.memberships,
        ):
            np.minimum.at(first, part.person, part.at)
        first[erased] = NEVER
        return first

    def on_file(self, low: int, high: int) -> Days:
        first, gone = (one[low:high, None] for one in self.here)
        found: Days = (first <= self.index) & (gone > self.index)
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
