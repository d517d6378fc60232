"""Conditions on what somebody did: counts, sums and days of rows in a period."""

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Ints, Mask, Rows, distinct
from loyalbell.core.history.snapshot import APPOINTMENT_STATES, BOOKED, CHANNELS
from loyalbell.core.history.visits import local_days, visits
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.model import (
    AnswersCondition,
    AppointmentsCondition,
    Comparison,
    EventsCondition,
    ItemsCondition,
    MessagesCondition,
    OrdersCondition,
    Period,
    VisitsCondition,
)

RESPONSES = {"opened": ("opened",), "clicked": ("clicked",), "replied": ("replied",), "refused": ("refused",)}
COMPARE: dict[Comparison, Callable[[Any, Any], Mask]] = {
    "at least": np.greater_equal,
    "at most": np.less_equal,
    "exactly": np.equal,
}


@dataclass(frozen=True)
class Measured:
    """What a line comes to, per person number: ``values`` are compared with the line's value times ``scale``.

    Where ``has`` is false there is nothing to compare, and the comparison is false.
    """

    values: Ints
    has: Mask | None = None
    scale: Ints | int = 1

    def meets(self, comparison: Comparison, value: int) -> Mask:
        met = COMPARE[comparison](self.values, value * self.scale)
        return met if self.has is None else self.has & met


def meets(line: Any, context: EvaluationContext) -> Mask:
    """Whether what somebody did compares as the line says."""
    return MEASURES[line.about](line, context).meets(line.comparison, line.value)


def orders(line: OrdersCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.orders
    low, high = context.span(line.period)
    rows = part.span(low, high) if line.nth is None else part.span(-(2**62), context.now)
    kept = part.counted(rows, context.now)
    for name in ("department", "location"):
        wanted = getattr(line, name)
        if wanted is not None:
            kept &= getattr(part, name)[rows] == wanted
    if line.least is not None:
        kept &= part.money[rows] >= line.least
    if line.nth is not None:
        kept = _nth(part, rows, kept, line.nth) & (part.at[rows] >= low) & (part.at[rows] <= high)
    kept = _personal(line.period, context, part, rows, kept)
    money = None
    if line.measure in ("sum", "average"):
        money = part.net_money(rows, context.now)[kept]
    return _measured(line, context, part.person[rows][kept], part.at[rows][kept], money)


def _nth(part: Rows, rows: slice, kept: Mask, nth: int) -> Mask:
    """Of the rows kept, the n-th of each person in time."""
    places = np.flatnonzero(kept)
    person = part.person[rows][places]
    order = np.argsort(person, kind="stable")
    grouped = person[order]
    first = np.ones(len(grouped), dtype=np.bool_)
    first[1:] = grouped[1:] != grouped[:-1]
    starts = np.flatnonzero(first)
    rank = np.arange(len(grouped)) - np.repeat(starts, np.diff(np.append(starts, len(grouped))))
    out = np.zeros(len(kept), dtype=np.bool_)
    out[places[order[rank == nth - 1]]] = True
    return out


def _personal(period: Period, context: EvaluationContext, part: Rows, rows: slice, kept: Mask) -> Mask:
    inside = context.inside(period, part.person[rows], part.at[rows])
    return kept if inside is None else kept & inside


def _measured(
    line: Any, context: EvaluationContext, person: NDArray[np.int32], at: Ints, weights: Ints | None = None
) -> Measured:
    """A first, a last or an average of nothing is nothing."""
    snapshot = context.snapshot
    if line.measure in ("count", "sum", "quantity"):
        return Measured(snapshot.per_person(person, weights), scale=1000 if line.measure == "quantity" else 1)
    if line.measure == "days":
        both = distinct(
            (person.astype(np.int64) << 32) | (local_days(at, snapshot.zone) - context.today + 2**31)
        )
        return Measured(snapshot.per_person((both >> 32).astype(np.int32)))
    count = snapshot.per_person(person)
    if line.measure == "average":
        return Measured(snapshot.per_person(person, weights), count > 0, count)
    return _days_ago(line, context, person, at, count)


def _days_ago(
    line: Any, context: EvaluationContext, person: NDArray[np.int32], at: Ints, count: Ints
) -> Measured:
    """Calendar days since the first or the last of the rows, which are in order of time."""
    chosen = np.zeros(context.size, dtype=np.int64)
    if line.measure == "last":
        chosen[person] = at
    else:
        chosen[person[::-1]] = at[::-1]
    ago = np.zeros(context.size, dtype=np.int64)
    has = count > 0
    ago[has] = context.today - local_days(chosen[has], context.snapshot.zone)
    return Measured(ago, has)


def items(line: ItemsCondition, context: EvaluationContext) -> Measured:
    part, snapshot = context.snapshot.lines, context.snapshot
    rows = part.span(*context.span(line.period))
    kept = part.void_at[rows] > context.now
    if line.item is not None:
        kept &= part.item[rows] == line.item
    if line.category is not None:
        wanted = [
            at for at, (_, category, _) in snapshot.catalogue.items.items() if category == line.category
        ]
        kept &= np.isin(part.item[rows], wanted)
    if line.department is not None:
        kept &= part.department[rows] == line.department
    kept = _personal(line.period, context, part, rows, kept)
    person, at = part.person[rows][kept], part.at[rows][kept]
    if line.measure == "count":
        _, once = np.unique(part.key[rows][kept], return_index=True)
        person, at = person[np.sort(once)], at[np.sort(once)]
        return _measured(line, context, person, at)
    weights = {"sum": part.money, "quantity": part.quantity}.get(line.measure)
    return _measured(line, context, person, at, None if weights is None else weights[rows][kept])


def visited(line: VisitsCondition, context: EvaluationContext) -> Measured:
    part = visits(context.snapshot, context.now)
    rows = part.span(*context.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    for name in ("department", "location"):
        if getattr(line, name) is not None:
            kept &= getattr(part, name)[rows] == getattr(line, name)
    kept = _personal(line.period, context, part, rows, kept)
    return _measured(line, context, part.person[rows][kept], part.at[rows][kept])


def appointments(line: AppointmentsCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.appointments
    state = part.state(context.now)
    if line.state == "ahead":
        kept = (state == BOOKED) & (part.at > context.now)
        if line.ahead:
            kept &= local_days(part.at, context.snapshot.zone) <= context.today + line.ahead
    else:
        low, high = context.span(line.period)
        kept = (state == APPOINTMENT_STATES.index(line.state)) & (part.at >= low) & (part.at <= high)
    if line.department is not None:
        kept &= part.department == line.department
    if line.item is not None:
        kept &= part.item == line.item
    return Measured(context.snapshot.per_person(part.person[kept]))


def events(line: EventsCondition, context: EvaluationContext) -> Measured:
    part, words = context.snapshot.events, context.snapshot.words
    rows = part.span(*context.span(line.period))
    kept = part.kind[rows] == words.get(line.kind, -1)
    if line.property is not None:
        codes = [
            code for code in np.unique(part.properties[rows][kept]) if _holds(words.said[int(code)], line)
        ]
        kept &= np.isin(part.properties[rows], codes)
    kept = _personal(line.period, context, part, rows, kept)
    return _measured(line, context, part.person[rows][kept], part.at[rows][kept])


def _holds(properties: str, line: EventsCondition) -> bool:
    held = json.loads(properties or "{}").get(line.property)
    if held is None:
        return False
    said = {True: "yes", False: "no"}.get(held, str(held)) if isinstance(held, bool) else str(held)
    return not line.holds or said.casefold() == line.holds.casefold()


def messages(line: MessagesCondition, context: EvaluationContext) -> Measured:
    """A message opened twice is one message opened."""
    snapshot = context.snapshot
    if line.act == "received":
        part: Any = snapshot.deliveries
        rows = part.span(*context.span(line.period))
        kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    else:
        part = snapshot.engagements
        rows = part.span(*context.span(line.period))
        wanted = [snapshot.words.get(word, -1) for word in RESPONSES[line.act]]
        kept = np.isin(part.kind[rows], wanted)
    if line.channel is not None:
        kept &= part.channel[rows] == CHANNELS.index(line.channel)
    if line.message is not None:
        kept &= part.message[rows] == line.message
    kept = _personal(line.period, context, part, rows, kept)
    person = part.person[rows][kept]
    if line.act != "received":
        _, once = np.unique(part.delivery[rows][kept], return_index=True)
        person = person[once]
    return Measured(snapshot.per_person(person))


def answers(line: AnswersCondition, context: EvaluationContext) -> Measured:
    part = context.snapshot.answers
    rows = part.span(*context.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    if line.kind != "any":
        kept &= part.kind[rows] == context.snapshot.words.get(line.kind, -1)
    if line.low > 0 or line.high < 100:
        score, best = part.score[rows].astype(np.int64), part.best[rows].astype(np.int64)
        kept &= (
            (score >= 0) & (best > 0) & (score * 100 >= line.low * best) & (score * 100 <= line.high * best)
        )
    kept = _personal(line.period, context, part, rows, kept)
    return Measured(context.snapshot.per_person(part.person[rows][kept]))


MEASURES: dict[str, Callable[[Any, EvaluationContext], Measured]] = {
    "orders": orders,
    "items": items,
    "visits": visited,
    "appointments": appointments,
    "events": events,
    "messages": messages,
    "answers": answers,
}
