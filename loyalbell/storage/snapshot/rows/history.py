"""What people did: orders, visits, appointments, memberships, events, answers."""

import numpy as np

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import (
    APPOINTMENT_STATES,
    STATUSES,
    Answers,
    Appointments,
    Events,
    Lines,
    Memberships,
    Orders,
    Statuses,
    WalkIns,
)
from loyalbell.storage.snapshot.rows.reading import Loading, Range, code, day_of, where


def orders(loading: Loading, span: Range | None) -> Orders:
    """Most orders were neither cancelled nor refunded; those that were are read apart.

    A refund whose day is not known counts from the order's own.
    """
    only = where("id", span)
    ids, person, at, department, location, money, in_person = loading.table(
        "SELECT id, person_id, placed_at, coalesce(department_id, 0), coalesce(location_id, 0), total_minor,"
        f" in_person FROM orders {only and 'WHERE ' + only} ORDER BY id",
        7,
    )
    void_at, refunded_at = np.full(len(ids), NEVER), np.full(len(ids), NEVER)
    refunded = np.zeros(len(ids), dtype=np.int64)
    taken_back, cancelled, back_at, back = loading.table(
        f"""SELECT id, coalesce(cancelled_at, {NEVER}),
                   coalesce(refunded_at, iif(refunded_minor > 0, placed_at, {NEVER})), refunded_minor
            FROM orders WHERE (cancelled_at IS NOT NULL OR refunded_at IS NOT NULL OR refunded_minor > 0)
                  {only and "AND " + only}""",
        4,
    )
    rows = np.searchsorted(ids, taken_back)
    whole = (back > 0) & (back >= money[rows])
    void_at[rows] = np.minimum(cancelled, np.where(whole, back_at, NEVER))
    refunded_at[rows], refunded[rows] = back_at, back
    found = loading.orders_of[span] = Orders.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        department=department,
        location=location,
        money=money,
        void_at=void_at,
        refunded_at=refunded_at,
        refunded=refunded,
        in_person=in_person != 0,
    )
    return found


def lines(loading: Loading, span: Range | None) -> Lines:
    """Whose and when, and what voided them, they have from their orders, which are read already."""
    only = where("order_id", span)
    order, item, quantity, money = loading.table(
        "SELECT order_id, coalesce(item_id, 0), quantity, total_minor FROM order_line"
        f" {only and 'WHERE ' + only} ORDER BY id",
        4,
    )
    heads = loading.orders_of.get(span) or orders(loading, span)
    by_key = np.argsort(heads.key, kind="stable")
    rows = by_key[np.searchsorted(heads.key[by_key], order)]
    return Lines.of(
        key=order,
        person=heads.person[rows],
        at=heads.at[rows],
        item=item,
        department=heads.department[rows],
        quantity=quantity,
        money=money,
        void_at=heads.void_at[rows],
    )


def statuses(loading: Loading, span: Range | None) -> Statuses:
    """One row for each status an order has come to."""
    only = where("id", span)
    times = ", ".join(f"coalesce({status}_at, {NEVER})" for status in STATUSES)
    any_of_them = " OR ".join(f"{status}_at IS NOT NULL" for status in STATUSES)
    ids, person, *came = loading.table(
        f"SELECT id, person_id, {times} FROM orders WHERE ({any_of_them}) {only and 'AND ' + only}",
        2 + len(STATUSES),
    )
    status, rows = np.nonzero(np.stack(came) < NEVER)
    at = np.stack(came)[status, rows]
    return Statuses.of(key=ids[rows], person=loading.numbers(person[rows]), at=at, status=status)


def walk_ins(loading: Loading, span: Range | None) -> WalkIns:
    only = where("id", span)
    ids, person, at, department, location = loading.table(
        "SELECT id, person_id, at, coalesce(department_id, 0), coalesce(location_id, 0) FROM visit "
        f"{only and 'WHERE ' + only}",
        5,
    )
    return WalkIns.of(
        key=ids, person=loading.numbers(person), at=at, department=department, location=location
    )


def appointments(loading: Loading, span: Range | None) -> Appointments:
    """An outcome without a time counts from the appointment's start."""
    only = where("id", span)
    ids, person, at, booked, settled, outcome, item, department, location = loading.table(
        f"""SELECT id, person_id, starts_at, coalesce(booked_at, {-NEVER}),
                   iif(state = 'booked', {NEVER}, coalesce(settled_at, starts_at)),
                   {code(APPOINTMENT_STATES, "state")}, coalesce(item_id, 0), coalesce(department_id, 0),
                   coalesce(location_id, 0)
            FROM appointment {only and "WHERE " + only}""",
        9,
    )
    return Appointments.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        booked_at=booked,
        settled_at=settled,
        outcome=outcome,
        item=item,
        department=department,
        location=location,
    )


def memberships(loading: Loading, span: Range | None) -> Memberships:
    only = where("id", span)
    ids, person, plan, term, started, renews, ended, price = loading.columns(
        "SELECT id, person_id, plan, term, started_on, renews_on, ended_on, coalesce(price_minor, 0) "
        f"FROM membership {only and 'WHERE ' + only}",
        8,
    )
    days = [day_of(day) for day in started]
    return Memberships.of(
        key=ids,
        person=loading.numbers(person),
        at=[day * 86_400 for day in days],
        plan=loading.codes(plan),
        term=loading.codes(term),
        started=days,
        renews=list(map(day_of, renews)),
        ended=list(map(day_of, ended)),
        price=price,
    )


def events(loading: Loading, span: Range | None) -> Events:
    only = where("id", span)
    ids, person, at, kind, properties = loading.columns(
        f"SELECT id, person_id, at, kind, properties FROM event {only and 'WHERE ' + only}", 5
    )
    return Events.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        kind=loading.codes(kind),
        properties=loading.codes(properties),
    )


def answers(loading: Loading, span: Range | None) -> Answers:
    only = where("id", span)
    ids, person, at, kind, score, best, item = loading.columns(
        "SELECT id, person_id, at, kind, coalesce(score, -1), coalesce(best, 0), coalesce(item_id, 0) "
        f"FROM answer {only and 'WHERE ' + only}",
        7,
    )
    return Answers.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        kind=loading.codes(kind),
        score=score,
        best=best,
        item=item,
    )
