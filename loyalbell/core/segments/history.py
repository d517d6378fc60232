"""Conditions on what somebody did: counts, sums and days of rows in a period."""

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.columns import Ints, Mask, Rows, distinct
from loyalbell.core.ledger import APPOINTMENT_STATES, BOOKED, CHANNELS
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
from loyalbell.core.segments.moment import Moment
from loyalbell.core.visits import local_days, visits

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


def meets(line: Any, moment: Moment) -> Mask:
    """Whether what somebody did compares as the line says."""
    return MEASURES[line.about](line, moment).meets(line.comparison, line.value)


def orders(line: OrdersCondition, moment: Moment) -> Measured:
    part = moment.ledger.orders
    low, high = moment.span(line.period)
    rows = part.span(low, high) if line.nth is None else part.span(-(2**62), moment.now)
    kept = part.counted(rows, moment.now)
    for name in ("department", "location"):
        wanted = getattr(line, name)
        if wanted is not None:
            kept &= getattr(part, name)[rows] == wanted
    if line.least is not None:
        kept &= part.money[rows] >= line.least
    if line.nth is not None:
        kept = _nth(part, rows, kept, line.nth) & (part.at[rows] >= low) & (part.at[rows] <= high)
    kept = _personal(line.period, moment, part, rows, kept)
    money = None
    if line.measure in ("sum", "average"):
        money = part.net_money(rows, moment.now)[kept]
    return _measured(line, moment, part.person[rows][kept], part.at[rows][kept], money)


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


def _personal(period: Period, moment: Moment, part: Rows, rows: slice, kept: Mask) -> Mask:
    inside = moment.inside(period, part.person[rows], part.at[rows])
    return kept if inside is None else kept & inside


def _measured(
    line: Any, moment: Moment, person: NDArray[np.int32], at: Ints, weights: Ints | None = None
) -> Measured:
    """A first, a last or an average of nothing is nothing."""
    ledger = moment.ledger
    if line.measure in ("count", "sum", "quantity"):
        return Measured(ledger.per_person(person, weights), scale=1000 if line.measure == "quantity" else 1)
    if line.measure == "days":
        both = distinct(
            (person.astype(np.int64) << 32) | (local_days(at, ledger.zone) - moment.today + 2**31)
        )
        return Measured(ledger.per_person((both >> 32).astype(np.int32)))
    count = ledger.per_person(person)
    if line.measure == "average":
        return Measured(ledger.per_person(person, weights), count > 0, count)
    return _days_ago(line, moment, person, at, count)


def _days_ago(line: Any, moment: Moment, person: NDArray[np.int32], at: Ints, count: Ints) -> Measured:
    """Calendar days since the first or the last of the rows, which are in order of time."""
    chosen = np.zeros(moment.size, dtype=np.int64)
    if line.measure == "last":
        chosen[person] = at
    else:
        chosen[person[::-1]] = at[::-1]
    ago = np.zeros(moment.size, dtype=np.int64)
    has = count > 0
    ago[has] = moment.today - local_days(chosen[has], moment.ledger.zone)
    return Measured(ago, has)


def items(line: ItemsCondition, moment: Moment) -> Measured:
    part, ledger = moment.ledger.lines, moment.ledger
    rows = part.span(*moment.span(line.period))
    kept = part.void_at[rows] > moment.now
    if line.item is not None:
        kept &= part.item[rows] == line.item
    if line.category is not None:
        wanted = [at for at, (_, category, _) in ledger.catalogue.items.items() if category == line.category]
        kept &= np.isin(part.item[rows], wanted)
    if line.department is not None:
        kept &= part.department[rows] == line.department
    kept = _personal(line.period, moment, part, rows, kept)
    person, at = part.person[rows][kept], part.at[rows][kept]
    if line.measure == "count":
        _, once = np.unique(part.key[rows][kept], return_index=True)
        person, at = person[np.sort(once)], at[np.sort(once)]
        return _measured(line, moment, person, at)
    weights = {"sum": part.money, "quantity": part.quantity}.get(line.measure)
    return _measured(line, moment, person, at, None if weights is None else weights[rows][kept])


def visited(line: VisitsCondition, moment: Moment) -> Measured:
    part = visits(moment.ledger, moment.now)
    rows = part.span(*moment.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    for name in ("department", "location"):
        if getattr(line, name) is not None:
            kept &= getattr(part, name)[rows] == getattr(line, name)
    kept = _personal(line.period, moment, part, rows, kept)
    return _measured(line, moment, part.person[rows][kept], part.at[rows][kept])


def appointments(line: AppointmentsCondition, moment: Moment) -> Measured:
    part = moment.ledger.appointments
    state = part.state(moment.now)
    if line.state == "ahead":
        kept = (state == BOOKED) & (part.at > moment.now)
        if line.ahead:
            kept &= local_days(part.at, moment.ledger.zone) <= moment.today + line.ahead
    else:
        low, high = moment.span(line.period)
        kept = (state == APPOINTMENT_STATES.index(line.state)) & (part.at >= low) & (part.at <= high)
    if line.department is not None:
        kept &= part.department == line.department
    if line.item is not None:
        kept &= part.item == line.item
    return Measured(moment.ledger.per_person(part.person[kept]))


def events(line: EventsCondition, moment: Moment) -> Measured:
    part, words = moment.ledger.events, moment.ledger.words
    rows = part.span(*moment.span(line.period))
    kept = part.kind[rows] == words.get(line.kind, -1)
    if line.property is not None:
        codes = [
            code for code in np.unique(part.properties[rows][kept]) if _holds(words.said[int(code)], line)
        ]
        kept &= np.isin(part.properties[rows], codes)
    kept = _personal(line.period, moment, part, rows, kept)
    return _measured(line, moment, part.person[rows][kept], part.at[rows][kept])


def _holds(properties: str, line: EventsCondition) -> bool:
    held = json.loads(properties or "{}").get(line.property)
    if held is None:
        return False
    said = {True: "yes", False: "no"}.get(held, str(held)) if isinstance(held, bool) else str(held)
    return not line.holds or said.casefold() == line.holds.casefold()


def messages(line: MessagesCondition, moment: Moment) -> Measured:
    """A message opened twice is one message opened."""
    ledger = moment.ledger
    if line.act == "received":
        part: Any = ledger.touches
        rows = part.span(*moment.span(line.period))
        kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    else:
        part = ledger.responses
        rows = part.span(*moment.span(line.period))
        wanted = [ledger.words.get(word, -1) for word in RESPONSES[line.act]]
        kept = np.isin(part.kind[rows], wanted)
    if line.channel is not None:
        kept &= part.channel[rows] == CHANNELS.index(line.channel)
    if line.message is not None:
        kept &= part.message[rows] == line.message
    kept = _personal(line.period, moment, part, rows, kept)
    person = part.person[rows][kept]
    if line.act != "received":
        _, once = np.unique(part.touch[rows][kept], return_index=True)
        person = person[once]
    return Measured(ledger.per_person(person))


def answers(line: AnswersCondition, moment: Moment) -> Measured:
    part = moment.ledger.answers
    rows = part.span(*moment.span(line.period))
    kept = np.ones(rows.stop - rows.start, dtype=np.bool_)
    if line.kind != "any":
        kept &= part.kind[rows] == moment.ledger.words.get(line.kind, -1)
    if line.low > 0 or line.high < 100:
        score, best = part.score[rows].astype(np.int64), part.best[rows].astype(np.int64)
        kept &= (
            (score >= 0) & (best > 0) & (score * 100 >= line.low * best) & (score * 100 <= line.high * best)
        )
    kept = _personal(line.period, moment, part, rows, kept)
    return Measured(moment.ledger.per_person(part.person[rows][kept]))


MEASURES: dict[str, Callable[[Any, Moment], Measured]] = {
    "orders": orders,
    "items": items,
    "visits": visited,
    "appointments": appointments,
    "events": events,
    "messages": messages,
    "answers": answers,
}
