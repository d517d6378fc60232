"""What is worked out of the orders once and kept gives the same as looking at every order anew, at any
instant: before, within and after everything on file. The oracle goes through plain lists.
"""

import unittest
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import product
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.settled import by_person, places_of, settled_from, worked_out
from loyalbell.core.history.snapshot import Catalogue, HistorySnapshot, Lines, Orders, People
from loyalbell.core.rhythm.bands import rhythms
from loyalbell.core.rhythm.return_curve import buying_days, by_day, rows_of
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import read_rule
from tests.support import ZONE

PEOPLE, DAY = 5, 86_400
START = int(datetime(2026, 3, 1, 12, tzinfo=UTC).timestamp())


@dataclass(frozen=True)
class Bought:
    person: int
    at: int
    money: int
    department: int
    void_at: int
    refunded_at: int
    refunded: int

    def stands(self, now: int) -> bool:
        return self.at <= now < self.void_at

    def net(self, now: int) -> int:
        return self.money - (self.refunded if self.refunded_at <= now else 0)


def _bought(person: int, day: int, hour: int, money: int, department: int, void: int, back: int) -> Bought:
    at = START + day * DAY + hour * 3_600
    return Bought(
        person,
        at,
        money,
        department,
        at + void * 3_600 if void else int(NEVER),
        at + back * 7_200 if back else int(NEVER),
        money // 3 if back else 0,
    )


BOUGHT = st.builds(
    _bought,
    st.integers(0, PEOPLE - 1),
    st.integers(0, 60),
    st.integers(0, 23),
    st.integers(1, 900),
    st.integers(1, 3),
    st.sampled_from((0, 0, 0, 1, 30, 200)),
    st.sampled_from((0, 0, 5, 100)),
)
WHAT = st.fixed_dictionaries(
    {},
    optional={
        "item": st.sampled_from((1, 2, 9)),
        "category": st.sampled_from("ab"),
        "department": st.integers(1, 3),
        "days": st.sampled_from((1, 20, 45)),
    },
)
BOOKS = st.lists(BOUGHT, max_size=25)
NOWS = st.integers(-2, 90).map(lambda day: START + day * DAY + 7_000)


def book_of(rows: list[Bought]) -> HistorySnapshot:
    ordered = sorted(rows, key=lambda one: one.at)
    columns = {
        name: np.array([getattr(one, name) for one in ordered], dtype=np.int64)
        for name in ("person", "at", "money", "department", "void_at", "refunded_at", "refunded")
    }
    shared = {name: columns[name] for name in ("person", "at", "department", "void_at")}
    item = np.array([1 + one.money % 4 for one in ordered], dtype=np.int64)
    return HistorySnapshot(
        ZONE,
        "USD",
        People.of(np.arange(1, PEOPLE + 1), np.full(PEOPLE, -NEVER)),
        Orders.of(**columns),
        lines=Lines.of(**shared, key=np.arange(len(ordered)), item=item, money=columns["money"]),
        catalogue=Catalogue(items={number: (f"I{number}", "ab"[number % 2], 1) for number in range(1, 5)}),
    )


def asked(snapshot: HistorySnapshot, now: int, line: dict[str, object]) -> list[int]:
    rule = read_rule({"version": 1, "root": {"match": "all", "lines": [line]}})
    return np.flatnonzero(evaluate(rule, snapshot, datetime.fromtimestamp(now, UTC))).tolist()


def day_of(at: int) -> int:
    return datetime.fromtimestamp(at, ZoneInfo(ZONE)).date().toordinal()


class TheSame(unittest.TestCase):
    def check(self, rows: list[Bought], now: int, line: dict[str, object], meets) -> None:
        snapshot = book_of(rows)
        expected = [
            person
            for person in range(PEOPLE)
            if meets(sorted((one for one in rows if one.person == person and one.stands(now)), key=_when))
        ]
        # twice: the second time from what was kept
        self.assertEqual(asked(snapshot, now, line), expected)
        self.assertEqual(asked(snapshot, now, line), expected)

    @settings(max_examples=120, deadline=None)
    @given(BOOKS, NOWS, st.integers(1, 4))
    def test_the_nth_order_within_a_period(self, rows: list[Bought], now: int, nth: int) -> None:
        """Asked with each period that just holds somebody's n-th order, and that just does not."""
        for person in range(PEOPLE):
            own = sorted((one for one in rows if one.person == person and one.stands(now)), key=_when)
            if len(own) < nth:
                continue
            ago = day_of(now) - day_of(own[nth - 1].at)
            for days in {max(ago, 1), ago + 1}:
                line = {"about": "orders", "nth": nth, "period": {"kind": "last days", "days": days}}

                def meets(some: list[Bought], days=days) -> bool:
                    return len(some) >= nth and day_of(now) - day_of(some[nth - 1].at) < days

                self.check(rows, now, line, meets)

    @settings(max_examples=80, deadline=None)
    @given(BOOKS, NOWS, st.integers(1, 3), st.integers(1, 3))
    def test_the_nth_of_a_department(self, rows: list[Bought], now: int, nth: int, department: int) -> None:
        line = {"about": "orders", "nth": nth, "department": department}
        self.check(rows, now, line, lambda own: sum(one.department == department for one in own) >= nth)

    @settings(max_examples=80, deadline=None)
    @given(BOOKS, NOWS, st.sampled_from(("first", "last")))
    def test_days_since_the_first_or_the_last(self, rows: list[Bought], now: int, which: str) -> None:
        """Asked with the very days of each person, and a day beside."""
        place = 0 if which == "first" else -1

        def ago(own: list[Bought]) -> int:
            return day_of(now) - day_of(own[place].at)

        everyone = (
            sorted((one for one in rows if one.person == person and one.stands(now)), key=_when)
            for person in range(PEOPLE)
        )
        days = {max(0, ago(own) + beside) for own in everyone if own for beside in (-1, 0, 1)}
        for value in days:
            for comparison, holds in (
                ("at least", int.__ge__),
                ("at most", int.__le__),
                ("exactly", int.__eq__),
            ):
                line = {"about": "orders", "measure": which, "comparison": comparison, "value": value}

                def meets(own: list[Bought], holds=holds, value=value) -> bool:
                    return bool(own) and holds(ago(own), value)

                self.check(rows, now, line, meets)

    @settings(max_examples=120, deadline=None)
    @given(BOOKS, NOWS, st.none() | st.integers(1, 3))
    def test_what_was_spent(self, rows: list[Bought], now: int, department: int | None) -> None:
        """Asked with just what each has spent, and with one more."""

        def spent(own: list[Bought]) -> int:
            return sum(one.net(now) for one in own if department in (None, one.department))

        sums = {
            spent([one for one in rows if one.person == person and one.stands(now)])
            for person in range(PEOPLE)
        }
        for value in {one + more for one in sums for more in (0, 1)} - {0}:
            line = {"about": "orders", "measure": "sum", "value": value, "department": department}
            self.check(rows, now, line, lambda own, value=value: spent(own) >= value)

    @settings(max_examples=150, deadline=None)
    @given(BOOKS, NOWS, st.lists(WHAT, min_size=2, max_size=3))
    def test_what_was_bought(self, rows: list[Bought], now: int, several: list[dict[str, object]]) -> None:
        """Of an item, a category, a department or several of these, within a period: each asked with just
        what somebody comes to and with one more. One book at several instants, some when an order is voided.
        """
        snapshot = book_of(rows)
        voided = [one.void_at for one in rows if one.void_at < NEVER][:3]
        for what, at in product(several, [now, *voided, *(one - 1 for one in voided)]):
            self.check_what_was_bought(snapshot, rows, what, at)

    def check_what_was_bought(
        self, snapshot: HistorySnapshot, rows: list[Bought], what: dict[str, object], now: int
    ) -> None:
        days = what.get("days")

        def counts(one: Bought) -> bool:
            item = 1 + one.money % 4
            return (
                one.stands(now)
                and (days is None or day_of(now) - day_of(one.at) < days)
                and what.get("department") in (None, one.department)
                and what.get("item") in (None, item)
                and what.get("category") in (None, "ab"[item % 2])
            )

        of = {"about": "items"} | {name: asks for name, asks in what.items() if name != "days"}
        if days:
            of |= {"period": {"kind": "last days", "days": days}}
        own = [[one for one in rows if one.person == at and counts(one)] for at in range(PEOPLE)]
        for measure, came_to in (
            ("sum", [sum(one.money for one in some) for some in own]),
            ("count", [len(some) for some in own]),
        ):
            for value in {one + more for one in came_to for more in (0, 1)} - {0}:
                expected = [person for person in range(PEOPLE) if came_to[person] >= value]
                line = of | {"measure": measure, "value": value}
                self.assertEqual(asked(snapshot, now, line), expected, line)

    @settings(max_examples=60, deadline=None)
    @given(BOOKS, NOWS)
    def test_days_of_buying_and_rhythms(self, rows: list[Bought], now: int) -> None:
        snapshot = book_of(rows)
        person, at, _ = rows_of(snapshot, now)
        anew, kept = by_day(person, at, ZONE), buying_days(snapshot, now)
        self.assertEqual(anew.person.tolist(), kept.person.tolist())
        self.assertEqual(anew.day.tolist(), kept.day.tolist())
        found, again = (rhythms(snapshot, now, 20.0).band.tolist() for _ in range(2))
        fresh = rhythms(book_of(rows), now, 20.0).band.tolist()
        self.assertEqual(found, again)
        self.assertEqual(found, fresh)


def _when(one: Bought) -> int:
    return one.at


class Settled(unittest.TestCase):
    def test_from_when_on_nothing_changes(self) -> None:
        late = START + 40 * DAY
        rows = [
            Bought(0, START, 9, 1, late, int(NEVER), 0),
            Bought(1, START + DAY, 9, 1, int(NEVER), late + 7, 3),
        ]
        self.assertEqual(settled_from(book_of(rows).orders), late + 7)
        self.assertLess(settled_from(book_of([]).orders), START)

    def test_an_order_stands_until_it_is_voided_and_its_money_until_it_is_paid_back(self) -> None:
        hour = 3_600
        rows = [
            Bought(0, START, 500, 1, START + 9 * hour, int(NEVER), 0),
            Bought(0, START + hour, 300, 1, int(NEVER), START + 5 * hour, 100),
        ]
        second = {"about": "orders", "nth": 2}
        first = {"about": "orders", "measure": "sum", "value": 800}
        for hours, spent_800, has_second in ((2, True, True), (6, False, True), (9, False, False)):
            now = START + hours * hour
            snapshot = book_of(rows)
            self.assertEqual(asked(snapshot, now, first), [0] if spent_800 else [], hours)
            self.assertEqual(asked(snapshot, now, second), [0] if has_second else [], hours)

    def test_the_first_is_not_the_last(self) -> None:
        never = int(NEVER)
        rows = [Bought(0, START + days * DAY, 5, 1, never, never, 0) for days in (0, 3, 8)]
        now = START + 10 * DAY
        for which, ago in (("first", 10), ("last", 2)):
            for value in (2, 7, 10):
                line = {"about": "orders", "measure": which, "comparison": "exactly", "value": value}
                self.assertEqual(asked(book_of(rows), now, line), [0] if value == ago else [], (which, value))

    def test_who_joined_closed_or_died_is_seen_as_of_then(self) -> None:
        snapshot = book_of([])
        people = People.of(
            np.arange(1, 5),
            np.array([-NEVER, START, START + 9 * DAY, NEVER]),
            closed_at=np.array([START + 5 * DAY, NEVER, NEVER, NEVER]),
        )
        snapshot = HistorySnapshot(ZONE, "USD", people, snapshot.orders)
        for days, expected in ((-1, [0]), (1, [0, 1]), (6, [1]), (8, [1]), (9, [1, 2]), (99, [1, 2])):
            found = np.flatnonzero(snapshot.on_file(START + days * DAY)).tolist()
            self.assertEqual(found, expected, days)

    def test_the_layout_holds_every_row_by_person_and_then_time(self) -> None:
        rng = np.random.default_rng(3)
        orders = Orders.of(person=rng.integers(0, 7, 500), at=np.sort(rng.integers(0, 99, 500)))
        laid = by_person(orders, 9)
        self.assertEqual(sorted(laid.rows.tolist()), list(range(500)))
        self.assertEqual(laid.starts[-1], 500)
        for person in range(9):
            own = laid.rows[laid.starts[person] : laid.starts[person + 1]].tolist()
            self.assertEqual(own, np.flatnonzero(orders.person == person).tolist())

    def test_the_rows_of_some_people(self) -> None:
        rng = np.random.default_rng(5)
        orders = Orders.of(person=rng.integers(0, 9, 300), at=np.sort(rng.integers(0, 99, 300)))
        for people in ([], [4], [0, 3, 8], list(range(9))):
            expected = [at for person in people for at in np.flatnonzero(orders.person == person)]
            found = places_of(orders, np.array(people, dtype=np.int64), 9).tolist()
            self.assertEqual(found, expected, people)

    def test_little_is_kept_and_the_oldest_goes(self) -> None:
        orders, asked_for = Orders.of(person=[0], at=[1]), []
        for number in [*range(80), 0]:
            worked_out(orders, number, lambda number=number: asked_for.append(number))
        self.assertEqual(asked_for, [*range(80), 0])
        worked_out(orders, 0, lambda: asked_for.append("again"))
        self.assertEqual(asked_for[-1], 0)

    def test_many_asked_for_items_push_nothing_else_out(self) -> None:
        snapshot = book_of([Bought(0, START, 5, 1, int(NEVER), int(NEVER), 0)])
        kept = by_person(snapshot.lines, PEOPLE).rows
        for item in range(1, 90):
            asked(snapshot, START + DAY, {"about": "items", "item": item})
        self.assertIs(by_person(snapshot.lines, PEOPLE).rows, kept)


class Midnight(unittest.TestCase):
    def test_days_ago_turn_at_local_midnight(self) -> None:
        """New York is four hours behind UTC in May: 04:00 UTC is midnight."""
        at = datetime(2026, 5, 1, 3, 59, tzinfo=UTC)
        line = {"about": "orders", "measure": "last", "comparison": "exactly", "value": 1}
        for shift, expected in ((timedelta(), []), (timedelta(minutes=1), [0])):
            rows = [Bought(0, int((at + shift).timestamp()), 5, 1, int(NEVER), int(NEVER), 0)]
            now = int(datetime(2026, 5, 2, 12, tzinfo=UTC).timestamp())
            self.assertEqual(asked(book_of(rows), now, line), expected)
