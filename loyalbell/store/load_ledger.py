"""Reading the book into the columns of the ledger, part by part, whole or a few rows."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as Reader

from loyalbell.core.columns import Rows
from loyalbell.core.ledger import (
    Ledger,
    People,
)
from loyalbell.store.ledger_rows.coming import (
    answers,
    appointments,
    events,
    lines,
    memberships,
    orders,
    statuses,
    walk_ins,
)
from loyalbell.store.ledger_rows.loading import Loading, Range
from loyalbell.store.ledger_rows.people import catalogue, field_values, people, tags, yearly_dates
from loyalbell.store.ledger_rows.sending import codes, consents, responses, suppressions, touches, ways
from loyalbell.store.tables import Shop

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
    "touches": touches,
    "responses": responses,
    "consents": consents,
    "suppressions": suppressions,
    "codes": codes,
    "ways": ways,
    "tags": tags,
    "field_values": field_values,
    "yearly_dates": yearly_dates,
}
WHOLE_ONLY = ("yearly_dates", "suppressions")
PARTS = ("people", *HISTORY, "catalogue")
Noted = Mapping[str, Sequence[Range] | None]


def load_ledger(reader: Reader, version: int = 0, parts: Sequence[str] = tuple(HISTORY)) -> Ledger:
    """The ledger as the book is now; only some parts of the history where ``parts`` names them."""
    shop = reader.get_one(Shop, 1)
    bare = Ledger(shop.zone, shop.currency, People.of([], []))
    loading = Loading(reader, bare.people, bare.words, shop.zone)
    loading.people = people(loading, None)
    history = {name: HISTORY[name](loading, None) for name in parts}
    return replace(
        bare,
        people=loading.people,
        catalogue=catalogue(reader),
        version=version,
        **history,  # type: ignore[arg-type]
    )


def follow(reader: Reader, ledger: Ledger, noted: Noted, version: int) -> Ledger:
    """The ledger after the noted changes; the same as loading it anew."""
    if "people" in noted:
        mended = _people_after(reader, ledger, noted["people"])
        if mended is None:
            return load_ledger(reader, version)
        ledger = replace(ledger, people=mended)
    loading = Loading(reader, ledger.people, ledger.words, ledger.zone)
    parts: dict[str, Any] = {}
    if "orders" in noted:
        noted = {**noted, "statuses": noted["orders"]}
    for name, ranges in noted.items():
        if name in HISTORY:
            parts[name] = _rows_after(loading, getattr(ledger, name), name, ranges)
    if "people" in noted and "suppressions" not in parts:
        parts["suppressions"] = suppressions(loading, None)
    if "catalogue" in noted:
        parts["catalogue"] = catalogue(reader)
    return replace(ledger, version=version, **parts)


def _people_after(reader: Reader, ledger: Ledger, ranges: Sequence[Range] | None) -> People | None:
    if ranges is None:
        return None
    loading = Loading(reader, ledger.people, ledger.words, ledger.zone)
    mended: People | None = ledger.people
    for low, high in ranges:
        fresh = people(loading, (low, high))
        within = ledger.people.ids[(ledger.people.ids >= low) & (ledger.people.ids <= high)]
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
