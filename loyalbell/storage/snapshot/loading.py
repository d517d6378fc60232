"""Reading the book into the columns of the ledger, part by part, whole or a few rows."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as Reader

from loyalbell.core.clock.yearly import FEBRUARY_28
from loyalbell.core.collecting import without_collecting
from loyalbell.core.history.columns import Rows
from loyalbell.core.history.snapshot import HistorySnapshot, People
from loyalbell.storage.schema import Setting, Shop
from loyalbell.storage.snapshot.rows.deliveries import (
    codes,
    consents,
    deliveries,
    engagements,
    enrolments,
    suppressions,
)
from loyalbell.storage.snapshot.rows.history import (
    answers,
    appointments,
    events,
    lines,
    memberships,
    orders,
    statuses,
    walk_ins,
)
from loyalbell.storage.snapshot.rows.people import catalogue, field_values, people, tags, yearly_dates
from loyalbell.storage.snapshot.rows.reading import Loading, Range

Load = Callable[[Loading, Range | None], Rows]
HISTORY: dict[str, Load] = {
    "orders": orders,
    "statuses": statuses,
    "lines": lines,
    "walk_ins": walk_ins,
    "appointments": appointments,
    "memberships": memberships,
    "events": events,
    "answers": answers,
    "deliveries": deliveries,
    "engagements": engagements,
    "consents": consents,
    "suppressions": suppressions,
    "codes": codes,
    "enrolments": enrolments,
    "tags": tags,
    "field_values": field_values,
    "yearly_dates": yearly_dates,
}
WHOLE_ONLY = ("yearly_dates", "suppressions")
PARTS = ("people", *HISTORY, "catalogue")
Noted = Mapping[str, Sequence[Range] | None]


def load_snapshot(reader: Reader, version: int = 0, parts: Sequence[str] = tuple(HISTORY)) -> HistorySnapshot:
    """The ledger as the book is now; only some parts of the history where ``parts`` names them."""
    shop = reader.get_one(Shop, 1)
    care = reader.get(Setting, "care")
    leap_day = str(care.value.get("leap_day", FEBRUARY_28)) if care is not None else FEBRUARY_28
    bare = HistorySnapshot(shop.zone, shop.currency, People.of([], []), leap_day=leap_day)
    loading = Loading(reader, bare.people, bare.words, shop.zone)
    with without_collecting():
        loading.people = people(loading, None)
        history = {name: HISTORY[name](loading, None) for name in parts}
    return replace(
        bare,
        people=loading.people,
        catalogue=catalogue(reader),
        version=version,
        **history,  # type: ignore[arg-type]
    )


def follow(reader: Reader, snapshot: HistorySnapshot, noted: Noted, version: int) -> HistorySnapshot:
    """The ledger after the noted changes; the same as loading it anew."""
    if "people" in noted:
        mended = _people_after(reader, snapshot, noted["people"])
        if mended is None:
            return load_snapshot(reader, version)
        snapshot = replace(snapshot, people=mended)
    loading = Loading(reader, snapshot.people, snapshot.words, snapshot.zone)
    parts: dict[str, Any] = {}
    if "orders" in noted:
        noted = {**noted, "statuses": noted["orders"]}
    for name, ranges in noted.items():
        if name in HISTORY:
            parts[name] = _rows_after(loading, getattr(snapshot, name), name, ranges)
    if "people" in noted and "suppressions" not in parts:
        parts["suppressions"] = suppressions(loading, None)
    if "catalogue" in noted:
        parts["catalogue"] = catalogue(reader)
    return replace(snapshot, version=version, **parts)


def _people_after(reader: Reader, snapshot: HistorySnapshot, ranges: Sequence[Range] | None) -> People | None:
    if ranges is None:
        return None
    loading = Loading(reader, snapshot.people, snapshot.words, snapshot.zone)
    mended: People | None = snapshot.people
    for low, high in ranges:
        fresh = people(loading, (low, high))
        within = snapshot.people.ids[(snapshot.people.ids >= low) & (snapshot.people.ids <= high)]
        if mended is not None:
            mended = mended.with_people(fresh, np.setdiff1d(within, fresh.ids))
    return mended


def _rows_after(loading: Loading, old: Rows, name: str, ranges: Sequence[Range] | None) -> Rows:
    load = HISTORY[name]
    if ranges is None or name in WHOLE_ONLY:
        return load(loading, None)
    rows = old.without(ranges)
    for span in dict.fromkeys(ranges):
        rows = rows.without([span]).with_rows(load(loading, span))
    return rows
