"""Who crosses the start line of a sequence, between two instants.

Each crossing once, under a name of its own.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import NamedTuple

import numpy as np

from loyalbell.core.clock.durations import after
from loyalbell.core.clock.send_windows import seconds_of
from loyalbell.core.clock.yearly import kept_on
from loyalbell.core.clock.zones import DAY, Zone, day_number, day_of, zone_of
from loyalbell.core.history.columns import NEVER, Ints, Mask
from loyalbell.core.history.snapshot import BOOKED, NO_DAY, HistorySnapshot
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.locality import asks_of_ours
from loyalbell.core.segments.model import Rule
from loyalbell.core.segments.size_over_time import days_met
from loyalbell.core.sequences.event_rows import Others, event_rows
from loyalbell.core.sequences.plan import ByHand, OnDate, OnEvent, OnInactivity, OnSegment, Plan, Start

OF_THE_SHOP = ("renewal", "appointment")
"""Dates that are of the shop's day: what is agreed with it."""


class TriggerHit(NamedTuple):
    """``person`` is a person number.

    ``key`` names what brought them, ``anchor`` is the instant that is about.
    """

    at: int
    person: int
    key: str
    anchor: int


@dataclass(frozen=True)
class TriggerContext:
    """What a start leans on beside the snapshot: saved segments, and what other sequences name."""

    segments: Mapping[int, Rule] = field(default_factory=dict)
    others: Others = Others()


def trigger_hits(
    start: Start, snapshot: HistorySnapshot, low: int, high: int, around: TriggerContext = TriggerContext()
) -> list[TriggerHit]:
    """Everybody who crosses with ``low < at <= high``, in order of time. Raises ``RuleProblem``."""
    if isinstance(start, ByHand) or high <= low:
        return []
    return sorted(_FIND[type(start)](start, snapshot, low, high, around))


def is_daily(start: Start) -> bool:
    """Whether the same people cross the line day after day."""
    return isinstance(start, OnSegment) and start.way == "is in"


def telling_hits(
    plan: Plan, snapshot: HistorySnapshot, low: int, high: int, around: TriggerContext
) -> list[TriggerHit]:
    """The same without those that come to nothing whatever happens: where nobody comes in twice, whoever is
    in a segment day after day crosses its line on the first day only.
    """
    start = plan.start
    if not (isinstance(start, OnSegment) and is_daily(start) and high > low):
        return trigger_hits(start, snapshot, low, high, around)
    may_come_in_later = (
        plan.again.kind != "never" or plan.only is not None or asks_of_ours(start.rule, around.segments)
    )
    return sorted(_on_segment(start, snapshot, low, high, around, once=not may_come_in_later))


def _on_event(
    start: OnEvent, snapshot: HistorySnapshot, low: int, high: int, around: TriggerContext
) -> Iterator[TriggerHit]:
    rows = event_rows(start.event_filter, snapshot, low, high, around.others)
    columns = (rows.at.tolist(), rows.person.tolist(), rows.key.tolist(), rows.anchor.tolist())
    for at, person, key, anchor in zip(*columns, strict=True):
        yield TriggerHit(at, person, f"{start.event_filter.what} {key}", anchor)


def _on_inactivity(
    start: OnInactivity, snapshot: HistorySnapshot, low: int, high: int, around: TriggerContext
) -> Iterator[TriggerHit]:
    """Those whose last one lies so long back, nothing of the kind having come between."""
    zone, second = zone_of(snapshot.zone), seconds_of(start.at)
    rows = event_rows(start.event_filter, snapshot, low - (start.longest_days + 3) * DAY, high, around.others)
    order = np.lexsort((rows.at, rows.person))
    person, at, key, until = (one[order].tolist() for one in (rows.person, rows.at, rows.key, rows.until))
    for row, when in enumerate(at):
        if start.elapsed is not None:
            crossed = after(when, start.elapsed, zone)
        else:
            crossed = zone.instant(zone.day(when) + start.days, second)
        if not low < crossed <= high or until[row] <= crossed:
            continue
        if not _another(row, person, at, until, crossed):
            yield TriggerHit(crossed, person[row], f"{start.event_filter.what} {key[row]}", when)


def _another(row: int, person: list[int], at: list[int], until: list[int], by: int) -> bool:
    """Whether the same person did it again after the row, by an instant at which that still stood."""
    for later in range(row + 1, len(at)):
        if person[later] != person[row] or at[later] > by:
            return False
        if until[later] > by:
            return True
    return False


def days_between(low: int, high: int, second: int, zone: Zone) -> Iterator[tuple[int, int]]:
    """(day, instant) of each local day whose moment at ``second`` lies in ``low < at <= high``."""
    for day in range(zone.day(low) - 1, zone.day(high) + 2):
        instant = zone.instant(day, second)
        if low < instant <= high:
            yield day, instant


def _on_segment(
    start: OnSegment,
    snapshot: HistorySnapshot,
    low: int,
    high: int,
    around: TriggerContext,
    once: bool = False,
) -> Iterator[TriggerHit]:
    """``once``: of whoever is in it on several days only the first."""
    zone, second = zone_of(snapshot.zone), seconds_of(start.at)
    days = list(days_between(low, high, second, zone))
    if not days:
        return
    instants = [at for _, at in days]
    if start.way != "is in":
        instants.insert(0, zone.instant(days[0][0] - 1, second))
    met = _met_at(start.rule, snapshot, instants, around)
    seen = np.zeros(len(snapshot.people), dtype=np.bool_)
    for number, (day, instant) in enumerate(days):
        if start.way == "is in":
            crossing = met[number] & ~seen
            seen |= met[number] if once else False
        elif start.way == "joins":
            crossing = met[number + 1] & ~met[number]
        else:
            crossing = met[number] & ~met[number + 1] & snapshot.on_file(instant)
        key = f"{start.way} {day_of(day).isoformat()}"
        for person in np.flatnonzero(crossing).tolist():
            yield TriggerHit(instant, person, key, instant)


A_FEW = 5
"""Up to so many instants a rule is asked at each; beyond, at all of them together."""


def _met_at(
    rule: Rule, snapshot: HistorySnapshot, instants: Sequence[int], around: TriggerContext
) -> list[Mask]:
    """Who met it at each of the instants."""
    if len(instants) <= A_FEW:
        return [_met(rule, snapshot, instant, around) for instant in instants]
    times = [datetime.fromtimestamp(instant, UTC) for instant in instants]
    return list(np.ascontiguousarray(days_met(rule, snapshot, times, around.segments).T))


def _met(rule: Rule, snapshot: HistorySnapshot, instant: int, around: TriggerContext) -> Mask:
    return evaluate(rule, snapshot, datetime.fromtimestamp(instant, UTC), around.segments)


def _on_date(
    start: OnDate, snapshot: HistorySnapshot, low: int, high: int, around: TriggerContext
) -> Iterator[TriggerHit]:
    """Yearly dates, and the hour of the start, are of each person's own zone where one is on file."""
    second = seconds_of(start.at)
    zones: list[tuple[Zone, Mask | None]] = list(_zones(snapshot))
    if start.which in OF_THE_SHOP:
        zones = [(zone_of(snapshot.zone), None)]
    for zone, of_zone in zones:
        for day, instant in days_between(low, high, second, zone):
            about = day - start.days
            anchor = zone.instant(about, second)
            for person, key, exact in _dated(start.which, snapshot, about, instant, zone):
                if of_zone is None or of_zone[person]:
                    yield TriggerHit(instant, person, key, anchor if exact is None else exact)


def _zones(snapshot: HistorySnapshot) -> Iterator[tuple[Zone, Mask | None]]:
    """Each zone that people live in, with who does; ``None`` for everybody."""
    codes = snapshot.people.words_of("zone")
    for code in np.unique(codes).tolist():
        yield zone_of(snapshot.words.said[code] if code else snapshot.zone), codes == code


def _dated(
    which: str, snapshot: HistorySnapshot, day: int, instant: int, zone: Zone
) -> Iterator[tuple[int, str, int | None]]:
    """(person, key, exact instant) of those whose date falls on a local day."""
    if which == "renewal":
        part = snapshot.memberships
        runs = (part.renews == day) & ((part.ended == NO_DAY) | (part.ended > zone.day(instant)))
        rows = np.flatnonzero(runs)
        yield from zip(
            part.person[rows].tolist(),
            (f"renewal {key} {day}" for key in part.key[rows].tolist()),
            [None] * len(rows),
            strict=True,
        )
    elif which == "appointment":
        part_ = snapshot.appointments
        rows = np.flatnonzero(
            (part_.state(instant) == BOOKED)
            & (part_.at >= zone.instant(day, 0))
            & (part_.at < zone.instant(day + 1, 0))
        )
        yield from zip(
            part_.person[rows].tolist(),
            (f"appointment {key}" for key in part_.key[rows].tolist()),
            part_.at[rows].tolist(),
            strict=True,
        )
    else:
        yield from ((person, key, None) for person, key in _yearly(which, snapshot, day_of(day)))


def _yearly(which: str, snapshot: HistorySnapshot, day: date) -> Iterator[tuple[int, str]]:
    """Once a person and year for their own days; once a companion and year for theirs."""
    people, dates = snapshot.people, snapshot.yearly_dates
    for month, of_month in kept_on(day, snapshot.leap_day):
        if which == "birthday":
            rows = np.flatnonzero((people.birthday_month == month) & (people.birthday_day == of_month))
            yield from ((person, f"birthday {day.year}") for person in rows.tolist())
            continue
        mask = (dates.month == month) & (dates.day == of_month)
        if which == "companion" or which.startswith("companion:"):
            mask &= dates.of_companion
            kind = which.partition(":")[2]
            if kind:
                mask &= dates.name == snapshot.words.get(kind, -1)
        else:
            mask &= ~dates.of_companion & (dates.name == snapshot.words.get(which, -1))
        found = np.flatnonzero(mask)
        for person, key in zip(dates.person[found].tolist(), dates.key[found].tolist(), strict=True):
            yield person, f"{which} {key} {day.year}"


_FIND: dict[type, Callable[..., Iterator[TriggerHit]]] = {
    OnEvent: _on_event,
    OnInactivity: _on_inactivity,
    OnSegment: _on_segment,
    OnDate: _on_date,
}


def beyond(
    plan: Plan, snapshot: HistorySnapshot, now: int, around: TriggerContext = TriggerContext()
) -> Ints:
    """Person numbers of those already past the line at ``now`` who meet the plan's condition: they stay out
    unless they are let in by choice. Raises ``RuleProblem``.
    """
    past = _past(plan.start, snapshot, now, around)
    may = snapshot.on_file(now)
    if plan.only is not None and len(past):
        may = may & _met(plan.only, snapshot, now, around)
    return past[may[past]]


def _past(start: Start, snapshot: HistorySnapshot, now: int, around: TriggerContext) -> Ints:
    if isinstance(start, OnSegment) and start.way == "joins":
        return np.flatnonzero(_met(start.rule, snapshot, now, around))
    if isinstance(start, OnInactivity):
        zone = zone_of(snapshot.zone)
        rows = event_rows(start.event_filter, snapshot, -(2**61), now, around.others)
        stand = rows.taken(rows.until > now)
        last = np.full(len(snapshot.people), -NEVER)
        last[stand.person] = stand.at
        known = np.flatnonzero((last > -NEVER) & snapshot.on_file(now))
        if start.elapsed is not None:
            return known[now - last[known] >= start.elapsed.seconds]
        days = local_days(last[known], snapshot.zone)
        return known[zone.day(now) - days >= start.days]
    return np.zeros(0, dtype=np.int64)


__all__ = ["TriggerContext", "TriggerHit", "beyond", "day_number", "trigger_hits"]
