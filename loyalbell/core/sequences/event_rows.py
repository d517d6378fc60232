"""Which rows of the ledger are a happening, and who did it when."""

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from loyalbell.core.history.before import before
from loyalbell.core.history.columns import EARLIEST, NEVER, Ints, Mask, Rows, Small, by_person_and_time
from loyalbell.core.history.snapshot import CANCELLED, KEPT, MISSED, STATUSES, HistorySnapshot
from loyalbell.core.sequences.plan import EventFilter

STANDING = NEVER


@dataclass(frozen=True)
class EventRows:
    """Rows in order of time.

    ``until``: before when each counts (an order until it is void); ``key`` names the row.

    ``anchor`` is the instant it is about: the appointment's start for a booking, else when it happened.
    """

    person: Small
    at: Ints
    key: Ints
    until: Ints
    anchor: Ints

    def __len__(self) -> int:
        return len(self.at)

    def taken(self, rows: Any) -> "EventRows":
        return EventRows(
            self.person[rows], self.at[rows], self.key[rows], self.until[rows], self.anchor[rows]
        )

    def within(self, low: int, high: int) -> "EventRows":
        """Those with ``low < at <= high``."""
        first, last = np.searchsorted(self.at, (low, high), side="right")
        return self.taken(slice(int(first), int(last)))


@dataclass(frozen=True)
class Others:
    """What other live sequences name, so that one can be there for everything else."""

    items: frozenset[int] = frozenset()
    categories: frozenset[str] = frozenset()
    departments: frozenset[int] = frozenset()


def event_rows(
    what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others = Others()
) -> EventRows:
    """Everything of the kind with ``low < at <= high``, whether it stands or was made void later."""
    if what.what in ORDERS and what.nth is not None:
        every = _orders(what, snapshot, -(2**61), high, others)
        rank = _rank(every)
        sums = before(snapshot, high)
        if sums is not None and what == EventFilter(what="order", nth=what.nth):
            rank = rank + sums.orders[every.person]
        return every.taken(rank == what.nth).within(low, high)
    return READERS[what.what](what, snapshot, low, high, others)


def _rows(part: Rows, mask: Mask, at: Ints | None = None, until: Ints | None = None) -> EventRows:
    found = part.taken(mask)
    when = found.at if at is None else at[mask]
    ends = np.full(len(found), STANDING) if until is None else until[mask]
    made = EventRows(found.person, when, found.key, ends, found.at)
    return made if at is None else made.taken(np.argsort(when, kind="stable"))


def _between(part: Rows, low: int, high: int) -> Mask:
    return (part.at > low) & (part.at <= high)


def _orders(what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others) -> EventRows:
    orders = snapshot.orders
    if what.what == "order":
        span = orders.span(low + 1, high)
        near = orders.taken(span)
        kept = near.void_at > near.at
        found = EventRows(near.person, near.at, near.key, near.void_at, near.at).taken(kept)
        money, departments = near.money[kept], near.department[kept]
    else:
        status = STATUSES.index(what.what.removeprefix("order "))
        marks = snapshot.statuses.taken(
            _between(snapshot.statuses, low, high) & (snapshot.statuses.status == status)
        )
        order = np.argsort(orders.key, kind="stable")
        place = (
            order[np.searchsorted(orders.key, marks.key, sorter=order)] if len(marks) else np.zeros(0, int)
        )
        void = np.full(len(marks), STANDING) if what.what == "order cancelled" else orders.void_at[place]
        found = EventRows(marks.person, marks.at, marks.key, void, marks.at)
        money, departments = orders.money[place], orders.department[place]
    return found.taken(_fits(what, snapshot, found, money, departments, others))


def _fits(
    what: EventFilter,
    snapshot: HistorySnapshot,
    found: EventRows,
    money: Ints,
    departments: Small,
    others: Others,
) -> Mask:
    mask = np.ones(len(found), dtype=np.bool_)
    if what.least is not None:
        mask &= money >= what.least
    if what.departments:
        mask &= np.isin(departments, what.departments)
    if what.items or what.categories:
        mask &= np.isin(found.key, _orders_with(snapshot, set(what.items), set(what.categories)))
    if what.others:
        named = _orders_with(snapshot, set(others.items), set(others.categories))
        mask &= ~np.isin(found.key, named) & ~np.isin(departments, list(others.departments))
    return mask


def _orders_with(snapshot: HistorySnapshot, items: set[int], categories: set[str]) -> Ints:
    """Keys of the orders that hold any of the items or anything of the categories."""
    wanted = items | {
        at for at, (_, category, _) in snapshot.catalogue.items.items() if category in categories
    }
    return np.unique(snapshot.lines.key[np.isin(snapshot.lines.item, list(wanted))])


def _rank(rows: EventRows) -> Ints:
    """Which of a person's each row is, from 1, counting only earlier ones that still stood then."""
    order = np.lexsort((rows.at, rows.person))
    person = rows.person[order]
    starts = np.flatnonzero(np.append(True, person[1:] != person[:-1])) if len(person) else np.zeros(0, int)
    place = np.arange(len(person)) - np.repeat(starts, np.diff(np.append(starts, len(person)))) + 1
    rank = np.zeros(len(rows), dtype=np.int64)
    rank[order] = place
    return rank - _voided_before(rows)


def _voided_before(rows: EventRows) -> Ints:
    """For each row how many earlier ones of the person were void by then; one sort for the whole book."""
    voided = np.flatnonzero(rows.until < STANDING)
    counts_from = np.maximum(rows.at[voided] + 1, rows.until[voided])
    voids = np.sort(by_person_and_time(rows.person[voided], counts_from))
    first = np.searchsorted(voids, by_person_and_time(rows.person, np.full(len(rows), -EARLIEST)))
    return np.searchsorted(voids, by_person_and_time(rows.person, rows.at), side="right") - first


def _visits(what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others) -> EventRows:
    """A kept appointment counts from its start, and is known once it is settled."""
    orders, kept, came = snapshot.orders, snapshot.appointments, snapshot.walk_ins
    bought = orders.taken(orders.span(low + 1, high))
    bought = bought.taken(bought.in_person & (bought.void_at > bought.at))
    seen = np.maximum(kept.settled_at, kept.at)
    were = kept.taken((kept.outcome == KEPT) & (seen > low) & (seen <= high))
    walked = came.taken(came.span(low + 1, high))
    parts: list[tuple[Any, Ints, Ints | None]] = [
        (bought, bought.at, bought.void_at),
        (were, np.maximum(were.settled_at, were.at), None),
        (walked, walked.at, None),
    ]
    person = np.concatenate([part.person for part, _, _ in parts])
    at = np.concatenate([when for _, when, _ in parts])
    key = np.concatenate([part.key * 3 + number for number, (part, _, _) in enumerate(parts)])
    until = np.concatenate(
        [np.full(len(part), STANDING) if void is None else void for part, _, void in parts]
    )
    department = np.concatenate([part.department for part, _, _ in parts])
    found = EventRows(person, at, key, until, at)
    if what.departments:
        mask = np.isin(department, what.departments)
        found = found.taken(mask)
    return found.taken(np.argsort(found.at, kind="stable"))


def _appointments(
    what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others
) -> EventRows:
    part = snapshot.appointments
    if what.what == "booking":
        at, mask = part.booked_at, np.ones(len(part), dtype=np.bool_)
        until = np.where(part.outcome == CANCELLED, part.settled_at, STANDING)
    else:
        outcome = {"appointment kept": KEPT, "appointment missed": MISSED, "appointment cancelled": CANCELLED}
        at, mask, until = part.settled_at, part.outcome == outcome[what.what], np.full(len(part), STANDING)
    mask = mask & (at > low) & (at <= high)
    if what.departments:
        mask &= np.isin(part.department, what.departments)
    if what.items:
        mask &= np.isin(part.item, what.items)
    return _rows(part, mask, at, until)


def _memberships(
    what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others
) -> EventRows:
    return _rows(snapshot.memberships, _between(snapshot.memberships, low, high))


def _tags(what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others) -> EventRows:
    return _rows(snapshot.tags, _between(snapshot.tags, low, high) & (snapshot.tags.tag == what.tag))


def _events(what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others) -> EventRows:
    part = snapshot.events
    return _rows(part, _between(part, low, high) & (part.kind == snapshot.words.get(what.event or "", -1)))


def _answers(what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others) -> EventRows:
    part = snapshot.answers
    mask = _between(part, low, high)
    if what.low > 0 or what.high < 100:
        share = part.score.astype(np.int64) * 100
        best = part.best.astype(np.int64)
        mask &= (part.score >= 0) & (best > 0) & (share >= what.low * best) & (share <= what.high * best)
    if what.items:
        mask &= np.isin(part.item, what.items)
    return _rows(part, mask)


def _responses(
    what: EventFilter, snapshot: HistorySnapshot, low: int, high: int, others: Others
) -> EventRows:
    part = snapshot.engagements
    return _rows(part, _between(part, low, high) & (part.kind == snapshot.words.get(what.what, -1)))


ORDERS = ("order", "order confirmed", "order shipped", "order delivered", "order cancelled")
READERS: dict[str, Callable[[EventFilter, HistorySnapshot, int, int, Others], EventRows]] = {
    **dict.fromkeys(ORDERS, _orders),
    **dict.fromkeys(
        ("booking", "appointment kept", "appointment missed", "appointment cancelled"), _appointments
    ),
    **dict.fromkeys(("opened", "clicked", "replied"), _responses),
    "visit": _visits,
    "membership": _memberships,
    "tag": _tags,
    "event": _events,
    "answer": _answers,
}


class ByPerson:
    """The rows of a happening by person number, to be asked for one person at a time."""

    def __init__(self, rows: EventRows, people: int) -> None:
        order = np.lexsort((rows.at, rows.person))
        bounds = np.searchsorted(rows.person[order], np.arange(people + 1))
        self._bounds: list[int] = bounds.tolist()
        self._ats, self._untils, self._keys = rows.at[order], rows.until[order], np.zeros(0, dtype=np.int64)
        self._persons = rows.person[order]
        self._at: list[int] = self._ats.tolist()
        self._until: list[int] = self._untils.tolist()

    def first(self, person: int, after: int, by: int) -> int | None:
        """When it first happened with ``after < at <= by`` and still stood at ``by``.

        ``None`` where it did not.
        """
        low, high = self._bounds[person], self._bounds[person + 1]
        if low == high:
            return None
        at = self._at
        for row in range(bisect_right(at, after, low, high), high):
            if at[row] > by:
                return None
            if self._until[row] > by:
                return at[row]
        return None

    def happened(self, person: Ints, after: Ints, by: Ints) -> Mask:
        """For many people whether ``first`` finds anything, each between instants of their own."""
        if not len(self._keys):
            self._keys = by_person_and_time(self._persons, self._ats)
        row = np.searchsorted(self._keys, by_person_and_time(person, after), side="right")
        end = np.searchsorted(self._keys, by_person_and_time(person, by), side="right")
        found = np.zeros(len(person), dtype=np.bool_)
        asked = np.flatnonzero(row < end)
        while len(asked):  # beyond the first row only where that one had become void
            found[asked] = self._untils[row[asked]] > by[asked]
            row[asked] += 1
            asked = asked[~found[asked] & (row[asked] < end[asked])]
        return found
