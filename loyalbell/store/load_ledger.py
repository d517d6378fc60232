"""Reading the book into the columns of the ledger, part by part."""

from collections.abc import Iterable
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.ledger import (
    CHANNELS,
    CONSENT_STATES,
    NEVER,
    Consents,
    Ledger,
    Orders,
    People,
    Small,
    Suppressions,
)
from loyalbell.store.tables import Department, Shop

PARTS = ("people", "orders", "consents", "suppressions")


def versions(reader: Reader) -> dict[str, int]:
    """The version each part of the book has now; 0 for one never written."""
    rows = reader.connection().exec_driver_sql("SELECT part, version FROM book_version")
    return dict.fromkeys(PARTS, 0) | {part: version for part, version in rows}


def raise_version(writer: Reader, *parts: str) -> None:
    """Marks parts of the ledger as changed; call it in the transaction that changes them."""
    for part in parts:
        writer.connection().exec_driver_sql(
            "INSERT INTO book_version VALUES (?, 1) ON CONFLICT (part) DO UPDATE SET version = version + 1",
            (part,),
        )


def load_ledger(reader: Reader, old: Ledger | None = None, stale: Iterable[str] = PARTS) -> Ledger:
    """The ledger as the book is now; parts that are not stale are taken from ``old``.

    Person numbers change with people, so stale people make every part stale.
    """
    shop = reader.get_one(Shop, 1)
    parts = set(PARTS) if old is None or "people" in stale else set(stale)
    people = _people(reader) if "people" in parts or old is None else old.people
    return Ledger(
        zone=shop.zone,
        currency=shop.currency,
        departments=dict(reader.execute(select(Department.id, Department.name)).all()),
        people=people,
        orders=_orders(reader, people) if "orders" in parts or old is None else old.orders,
        consents=_consents(reader, people) if "consents" in parts or old is None else old.consents,
        suppressions=(
            _suppressions(reader, people) if "suppressions" in parts or old is None else old.suppressions
        ),
    )


def _table(reader: Reader, sql: str, width: int) -> NDArray[np.int64]:
    """The rows of a query on whole numbers, as a ``width`` x rows array of contiguous columns."""
    cursor: Any = reader.connection().connection.cursor()
    rows = cursor.execute(sql)
    flat = np.fromiter(chain.from_iterable(rows), dtype=np.int64)
    return np.ascontiguousarray(flat.reshape(-1, width).T)


def _people(reader: Reader) -> People:
    ids, joined, closed, deceased, email, text, chat = _table(
        reader,
        f"""SELECT id, coalesce(joined_at, {-NEVER}), coalesce(closed_at, {NEVER}),
                   coalesce(deceased_at, {NEVER}), email IS NOT NULL, phone IS NOT NULL,
                   chat_handle IS NOT NULL
            FROM person ORDER BY id""",
        7,
    )
    return People(ids, joined, closed, deceased, np.stack((email, text, chat), axis=1).astype(np.bool_))


def _numbers(people: People, ids: NDArray[np.int64]) -> Small:
    """Person numbers of person ids; quick where ids run without gaps."""
    count = len(people.ids)
    if count and people.ids[-1] - people.ids[0] == count - 1:
        offsets: Small = (ids - people.ids[0]).astype(np.int32)
        return offsets
    return np.searchsorted(people.ids, ids).astype(np.int32)


def _orders(reader: Reader, people: People) -> Orders:
    """Most orders were neither cancelled nor refunded; those that were are read apart."""
    ids, person, at, department, money = _table(
        reader,
        "SELECT id, person_id, placed_at, coalesce(department_id, 0), total_minor FROM orders ORDER BY id",
        5,
    )
    void_at, refunded_at = np.full(len(ids), NEVER), np.full(len(ids), NEVER)
    refunded = np.zeros(len(ids), dtype=np.int64)
    taken_back, cancelled, back_at, back = _table(
        reader,
        f"""SELECT id, coalesce(cancelled_at, {NEVER}), coalesce(refunded_at, {NEVER}), refunded_minor
            FROM orders WHERE cancelled_at IS NOT NULL OR refunded_at IS NOT NULL""",
        4,
    )
    rows = np.searchsorted(ids, taken_back)
    whole = (back > 0) & (back >= money[rows])
    void_at[rows] = np.minimum(cancelled, np.where(whole, back_at, NEVER))
    refunded_at[rows], refunded[rows] = back_at, back
    order = np.argsort(at, kind="stable")
    return Orders(
        _numbers(people, person)[order],
        at[order],
        department[order].astype(np.int32),
        money[order],
        void_at[order],
        refunded_at[order],
        refunded[order],
    )


def _code(words: tuple[str, ...], column: str) -> str:
    cases = " ".join(f"WHEN '{word}' THEN {at}" for at, word in enumerate(words))
    return f"CASE {column} {cases} ELSE 0 END"


def _consents(reader: Reader, people: People) -> Consents:
    person, channel, state, at = _table(
        reader,
        f"""SELECT person_id, {_code(CHANNELS, "channel")}, {_code(CONSENT_STATES, "state")}, at
            FROM consent_entry ORDER BY at, id""",
        4,
    )
    return Consents(_numbers(people, person), channel.astype(np.int32), state.astype(np.int32), at)


def _suppressions(reader: Reader, people: People) -> Suppressions:
    person, channel, at, lifted = _table(
        reader,
        f"""SELECT person.id, {_code(CHANNELS, "channel")}, at, coalesce(lifted_at, {NEVER})
            FROM suppression JOIN person ON person.id = suppression.person_id
              OR (suppression.channel = 'email' AND person.email = suppression.address)
              OR (suppression.channel = 'text' AND person.phone = suppression.address)""",
        4,
    )
    return Suppressions(_numbers(people, person), channel.astype(np.int32), at, lifted)
