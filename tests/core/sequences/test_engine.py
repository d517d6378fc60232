"""One person through a plan: starts, yearly dates, forks, limits, mistakes, the score.

Shapes of the trade.
"""

import unittest
from datetime import UTC, datetime
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.history.snapshot import (
    Appointments,
    Events,
    HistorySnapshot,
    Memberships,
    Orders,
    People,
    Statuses,
)
from loyalbell.core.policy.assignment import arm_of, held_back
from loyalbell.core.policy.send_policy import FrequencyCap, VolumeGuard, next_allowed
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import read_rule
from loyalbell.core.sequences.check import check
from loyalbell.core.sequences.engine_facts import SendPolicy, SequenceHistory
from loyalbell.core.sequences.event_rows import event_rows
from loyalbell.core.sequences.plan import EventFilter, Plan, PlanProblem, every_step, read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.rehearsal_figures import figures
from loyalbell.core.sequences.score import score_of
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.steps.base import Surroundings
from loyalbell.core.sequences.triggers import TriggerHit, beyond, trigger_hits
from loyalbell.core.sequences.walk import Position

ZONE = "America/New_York"


def at(text: str) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(ZONE)).timestamp())


def said(instant: int) -> str:
    return f"{datetime.fromtimestamp(instant, UTC).astimezone(ZoneInfo(ZONE)):%Y-%m-%d %H:%M}"


def snapshot(people: int = 3, **parts: Any) -> HistorySnapshot:
    return HistorySnapshot(
        ZONE, "USD", People.of(np.arange(1, people + 1), np.full(people, at("2020-01-01T00:00"))), **parts
    )


def orders(*rows: tuple[int, str], **more: Any) -> Orders:
    return Orders.of(
        person=[one for one, _ in rows], at=[at(when) for _, when in rows], money=[1_000] * len(rows), **more
    )


def plan(start: dict[str, Any], *steps: dict[str, Any], **more: Any) -> Plan:
    return read_plan({"start": start, "steps": list(steps), **more})


def message(step: str, **more: Any) -> dict[str, Any]:
    return {"do": "message", "id": step, "message": 1, **more}


def wait(step: str, amount: int, unit: str = "days") -> dict[str, Any]:
    return {"do": "wait", "id": step, "span": {"amount": amount, "unit": unit}}


def played(
    book: HistorySnapshot, made: Plan, first: str, last: str, policy: SendPolicy | None = None
) -> list[tuple[int, str, str]]:
    known = SequenceHistory(book, policy or SendPolicy())
    consented(known)
    found = rehearse([RehearsalScene("key", tree_of(made))], known, at(first), at(last))
    return [(one.person, one.step, said(one.at)) for one in found.sent]


def consented(known: SequenceHistory) -> None:
    known.consent = lambda person, channel, now: "agreed"  # type: ignore[method-assign]


class StartsTest(unittest.TestCase):
    def test_five_items_in_one_order_are_a_first_purchase_and_three_orders_make_the_third(self) -> None:
        """Common practice, no source: orders are counted, never items; a cancelled one does not count."""
        book = snapshot(
            orders=orders(
                (0, "2026-01-01T10:00"),
                (0, "2026-01-05T10:00"),
                (0, "2026-01-09T10:00"),
                (0, "2026-01-20T10:00"),
                void_at=[2**62, at("2026-01-06T10:00"), 2**62, 2**62],
            )
        )
        third = event_rows(EventFilter(nth=3), book, 0, at("2026-02-01T00:00"))
        self.assertEqual([said(one) for one in third.at], ["2026-01-20 10:00"])

    def test_statuses_appointments_memberships_and_events_start_too(self) -> None:
        book = snapshot(
            orders=orders((0, "2026-01-01T10:00")),
            statuses=Statuses.of(key=[0], person=[0], at=[at("2026-01-03T10:00")], status=[2]),
            appointments=Appointments.of(
                person=[1],
                at=[at("2026-01-10T15:00")],
                booked_at=[at("2026-01-02T09:00")],
                settled_at=[at("2026-01-10T16:00")],
                outcome=[3],
            ),
        )
        for what, when in (
            ("order delivered", "2026-01-03 10:00"),
            ("booking", "2026-01-02 09:00"),
            ("appointment missed", "2026-01-10 16:00"),
        ):
            found = trigger_hits(
                plan({"on": "event", "happening": {"what": what}}).start, book, 0, at("2026-02-01T00:00")
            )
            self.assertEqual([said(one.at) for one in found], [when], what)

    def test_a_lead_of_two_weeks_reaches_back_into_december(self) -> None:
        """rules.md section 1: early in January with a lead of 14 days starts in December of the year
        before.
        """
        people = People.of([1, 2], [0, 0], birthday_month=[1, 2], birthday_day=[5, 29])
        book = HistorySnapshot(ZONE, "USD", people)
        start = plan({"on": "date", "which": "birthday", "days": -14, "at": "09:00"}).start
        found = trigger_hits(start, book, at("2025-12-01T00:00"), at("2026-03-01T00:00"))
        self.assertEqual(
            [(one.person, said(one.at), one.key) for one in found],
            [(0, "2025-12-22 09:00", "birthday 2026"), (1, "2026-02-14 09:00", "birthday 2026")],
        )

    def test_exactly_three_days_before_the_renewal_and_the_day_before_an_appointment(self) -> None:
        day = zone_of(ZONE).day(at("2026-05-15T12:00"))
        book = snapshot(
            memberships=Memberships.of(person=[0, 1], at=[0, 0], renews=[day, day + 1], term=[0, 0]),
            appointments=Appointments.of(person=[2], at=[at("2026-05-20T15:00")]),
        )
        renewals = trigger_hits(
            plan({"on": "date", "which": "renewal", "days": -3}).start,
            book,
            at("2026-05-12T00:00"),
            at("2026-05-12T23:00"),
        )
        self.assertEqual([one.person for one in renewals], [0])
        before = trigger_hits(
            plan({"on": "date", "which": "appointment", "days": -1}).start,
            book,
            at("2026-05-01T00:00"),
            at("2026-06-01T00:00"),
        )
        self.assertEqual(
            [(said(one.at), said(one.anchor)) for one in before], [("2026-05-19 09:00", "2026-05-20 15:00")]
        )

    def test_sixty_days_without_an_order_crosses_once_and_those_beyond_are_told_apart(self) -> None:
        book = snapshot(
            orders=orders((0, "2026-01-01T10:00"), (1, "2026-01-01T10:00"), (1, "2026-02-10T10:00"))
        )
        start = plan({"on": "lack", "days": 60}).start
        found = trigger_hits(start, book, at("2026-01-02T00:00"), at("2026-05-01T00:00"))
        self.assertEqual(
            [(one.person, said(one.at)) for one in found], [(0, "2026-03-02 09:00"), (1, "2026-04-11 09:00")]
        )
        self.assertEqual(beyond(Plan(start=start), book, at("2026-03-15T00:00")).tolist(), [0])

    def test_ninety_minutes_without_a_sign_cross_when_clocks_change_too(self) -> None:
        """Minutes and hours are elapsed time (rules of the job, section 1): on 8 March 2026 New York skips
        the hour from 2:00 to 3:00 (IANA).
        """
        book = snapshot(
            orders=orders(
                (0, "2026-03-08T01:00"),
                (1, "2026-03-08T01:00"),
                (1, "2026-03-08T03:10"),
                (2, "2026-03-09T23:00"),
            )
        )
        start = plan({"on": "lack", "elapsed": {"amount": 90, "unit": "minutes"}}).start
        found = trigger_hits(start, book, at("2026-03-07T00:00"), at("2026-03-10T00:29"))
        self.assertEqual(
            [(one.person, said(one.at)) for one in found], [(0, "2026-03-08 03:30"), (1, "2026-03-08 04:40")]
        )
        self.assertEqual(beyond(Plan(start=start), book, at("2026-03-10T00:29")).tolist(), [0, 1])
        self.assertEqual(beyond(Plan(start=start), book, at("2026-03-10T00:30")).tolist(), [0, 1, 2])

    @given(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 200)), max_size=15), st.integers(1, 199))
    def test_what_is_caught_up_after_a_gap_is_what_would_have_come_along_all_the_time(
        self, rows: list[tuple[int, int]], cut: int
    ) -> None:
        base = at("2026-01-01T00:00")
        book = snapshot(
            orders=Orders.of(
                person=[one for one, _ in rows],
                at=[base + hour * 3_600 * 7 for _, hour in rows],
                money=[1] * len(rows),
            )
        )
        end, middle = base + 1_500 * 3_600, base + cut * 7 * 3_600
        rule = {
            "root": {"lines": [{"about": "orders", "value": 2, "period": {"kind": "last days", "days": 20}}]}
        }
        for start in (
            {"on": "event"},
            {"on": "lack", "days": 9},
            {"on": "lack", "elapsed": {"amount": 11, "unit": "hours"}},
            {"on": "segment", "rule": rule},
            {"on": "segment", "rule": rule, "way": "leaves"},
        ):
            made = plan(start).start
            whole = trigger_hits(made, book, base, end)
            parted = [*trigger_hits(made, book, base, middle), *trigger_hits(made, book, middle, end)]
            self.assertEqual(whole, parted)


class ShapesTest(unittest.TestCase):
    """rules.md section 6, common practice, no source: the shapes that starters must express exactly."""

    def test_birthday_two_weeks_before_then_at_noon_on_the_day(self) -> None:
        book = HistorySnapshot(ZONE, "USD", People.of([1], [0], birthday_month=[5], birthday_day=[26]))
        steps = [
            message("a", release={"kind": "at once"}),
            {"do": "wait", "id": "w", "kind": "until near", "span": {"amount": 0, "unit": "days"}},
            message("b", release={"kind": "exact", "begins": "12:00"}),
        ]
        made = plan({"on": "date", "which": "birthday", "days": -14}, *steps)
        self.assertEqual(
            played(book, made, "2026-05-01T00:00", "2026-06-30T00:00"),
            [(0, "a", "2026-05-12 09:00"), (0, "b", "2026-05-26 12:00")],
        )

    def test_win_back_in_four_words_and_a_purchase_ends_it(self) -> None:
        book = snapshot(
            orders=orders((0, "2026-01-01T10:00"), (1, "2026-01-01T10:00"), (1, "2026-03-05T10:00"))
        )
        steps = [
            wait("w1", 60),
            message("a"),
            wait("w2", 3),
            message("b"),
            wait("w3", 5),
            message("c"),
            wait("w4", 5),
            message("d"),
        ]
        made = plan({"on": "event"}, *steps, exit_events=[{"what": "order"}], again={"kind": "each"})
        found = played(book, made, "2025-12-31T00:00", "2026-04-30T00:00")
        days = ["2026-03-02", "2026-03-05", "2026-03-10", "2026-03-15"]
        mine = [(step, when) for person, step, when in found if person == 0]
        self.assertEqual(mine, [(step, f"{day} 10:00") for step, day in zip("abcd", days, strict=True)])
        self.assertEqual([step for person, step, _ in found if person == 1], ["a"], "bought on day 63")

    def test_dated_series_at_its_own_times(self) -> None:
        book = snapshot(1, orders=orders((0, "2026-05-12T09:40")))
        steps = [message("a")]
        for name, days, clock in (("b", 2, "07:55"), ("c", 3, "11:05"), ("d", 14, "09:15")):
            steps += [wait(f"w{name}", days), message(name, release={"kind": "exact", "begins": clock})]
        found = played(book, plan({"on": "event"}, *steps), "2026-05-12T00:00", "2026-07-01T00:00")
        self.assertEqual([when[11:] for _, _, when in found], ["09:40", "07:55", "11:05", "09:15"])

    def test_tiers_two_four_and_eight_weeks_after_the_last_visit(self) -> None:
        book = snapshot(1, orders=orders((0, "2026-01-05T12:00")))
        steps = [
            wait("w1", 2, "weeks"),
            message("a"),
            wait("w2", 2, "weeks"),
            message("b"),
            wait("w3", 4, "weeks"),
            message("c"),
        ]
        found = played(
            book,
            plan({"on": "event", "happening": {"what": "visit"}}, *steps),
            "2026-01-01T00:00",
            "2026-04-01T00:00",
        )
        self.assertEqual([when[:10] for _, _, when in found], ["2026-01-19", "2026-02-02", "2026-03-02"])

    def test_about_25_a_day_on_the_one_day_and_the_whole_lapsed_book_without_it(self) -> None:
        """Common practice, no source: the daily recall list is a few dozen.

        Without the one-day band it is everybody.
        """
        count = 365 * 25 * 2
        day = 86_400
        base = at("2024-05-12T12:00")
        book = snapshot(
            count,
            orders=Orders.of(
                person=np.arange(count), at=base + (np.arange(count) % 730) * day, money=np.ones(count)
            ),
        )
        exact = {"about": "visits", "measure": "last", "comparison": "exactly", "value": 365}
        for line, low, high in ((exact, 23, 27), (exact | {"comparison": "at least"}, 9_000, 10_000)):
            start = plan({"on": "segment", "way": "is in", "rule": {"root": {"lines": [line]}}}).start
            found = trigger_hits(start, book, at("2026-05-12T00:00"), at("2026-05-12T23:00"))
            self.assertTrue(low <= len(found) <= high, len(found))


class StepTest(unittest.TestCase):
    def test_arms_and_held_back_groups_are_stable_even_and_independent(self) -> None:
        people = range(20_000)
        first = [arm_of("one", person, "lot", [30, 70]) for person in people]
        self.assertEqual(first, [arm_of("one", person, "lot", [30, 70]) for person in people])
        self.assertAlmostEqual(first.count(0) / len(first), 0.3, delta=0.013, msg="four standard errors")
        held = [held_back("one", person, 10) for person in people]
        other = [held_back("two", person, 10) for person in people]
        both = sum(a and b for a, b in zip(held, other, strict=True)) / len(held)
        self.assertAlmostEqual(both, 0.01, delta=0.003, msg="independent between sequences")

    @given(
        st.lists(st.integers(0, 10**6), max_size=12),
        st.integers(1, 4),
        st.integers(1, 5),
        st.integers(10**6, 2 * 10**6),
    )
    def test_the_first_allowed_instant_is_the_first(
        self, sent: list[int], count: int, days: int, now: int
    ) -> None:
        sent.sort()
        limit = FrequencyCap(count=count, days=days)

        def fits(when: int) -> bool:
            return sum(one > when - days * 86_400 for one in sent) < count

        found = next_allowed(sent, [limit], now)
        self.assertTrue(fits(found))
        if found > now:
            self.assertFalse(fits(found - 1))

    def test_the_guard_is_the_greater_of_three_times_and_fifty_more(self) -> None:
        """rules.md section 6: max(3 x normal, normal + 50)."""
        self.assertEqual([VolumeGuard().most(normal) for normal in (0, 10, 25, 100)], [50, 60, 75, 300])

    @given(st.integers(0, 3), st.integers(0, 60))
    def test_a_rule_asked_of_one_person_is_answered_as_of_the_whole_book(
        self, person: int, hours: int
    ) -> None:
        rng = np.random.default_rng(person * 100 + hours)
        book = snapshot(
            4,
            orders=Orders.of(
                person=rng.integers(0, 4, 30),
                at=at("2026-01-01T00:00") + rng.integers(0, 40 * 86_400, 30),
                money=np.ones(30),
            ),
            events=Events.of(person=[1], at=[at("2026-01-20T00:00")], kind=[1]),
        )
        rule = read_rule(
            {
                "version": 1,
                "root": {
                    "lines": [
                        {"about": "orders", "value": 2, "period": {"kind": "last days", "days": 7}},
                        {"about": "visits", "measure": "last", "comparison": "at most", "value": 3},
                    ]
                },
            }
        )
        now = at("2026-01-30T00:00") + hours * 3_600
        known = SequenceHistory(book, SendPolicy())
        known._asked[(known.nature(rule).words, zone_of(ZONE).day(now))] = 100
        whole = bool(evaluate(rule, book, datetime.fromtimestamp(now, UTC))[person])
        self.assertEqual(known.meets(rule, person, now, 0), whole, "by the day's mask and its busy people")
        self.assertEqual(known.meets_alone(rule, person, now, 0), whole)

    def test_a_rule_typed_again_is_not_worked_out_again(self) -> None:
        """What is ready is kept over many readings of a plan; equal rules must not add to it each time."""
        book, now = snapshot(3, orders=orders((0, "2026-01-05T10:00"))), at("2026-01-30T12:00")
        known, data = SequenceHistory(book, SendPolicy()), {"root": {"lines": [{"about": "orders"}]}}
        rules = [read_rule(data) for _ in range(5)]
        for rule in rules:
            known._asked[(known.nature(rule).words, zone_of(ZONE).day(now))] = 100
            self.assertEqual([known.meets(rule, person, now, 0) for person in range(3)], [True, False, False])
        self.assertEqual(len(known._rules), 1)


class CheckTest(unittest.TestCase):
    AROUND = Surroundings(messages={1: ("Hello", True, {"email": (), "text": ()})}, agreed={"text": 0.4})

    def words(self, made: Plan, **around: Any) -> str:
        surroundings = Surroundings(**{**vars(self.AROUND), **around})
        return " | ".join(f"{one.place}: {one.words}" for one in check(made, surroundings))

    def test_every_mistake_is_named_at_its_place(self) -> None:
        event, order = {"on": "event"}, {"what": "order"}
        night = {"kind": "window", "begins": "22:00", "ends": "23:00"}
        arm = {"did": "clicked", "steps": []}
        cases: list[tuple[Plan, str, dict[str, Any]]] = [
            (plan(event), "start: There are no steps yet", {}),
            (plan(event, {"do": "message", "id": "m"}), "m: No message is chosen", {}),
            (
                plan(event, message("m")),
                "m: There is no sender address",
                {"lacking": {"email": ("There is no sender address.",)}},
            ),
            (
                plan(event, message("m")),
                "m: “Hello”, email: There is no subject",
                {"messages": {1: ("Hello", True, {"email": ("There is no subject.",)})}},
            ),
            (
                plan(event, message("m", release=night)),
                "m: Its window never opens",
                {"quiet": QuietHours("21:00", "08:00")},
            ),
            (plan(event, message("m", channels=["chat"])), "m: “Hello” says nothing by chat", {}),
            (
                plan(event, message("m", channels=["text"])),
                "m: 60 % of people on file cannot be reached by text",
                {},
            ),
            (plan(event, message("m"), wait("w", 3), message("n")), "stops: Nothing ends it early", {}),
            (
                plan(event, {"do": "fork", "id": "f", "arms": [arm]}),
                "f: Arm 1 asks what people did with a message, but no message",
                {},
            ),
            (
                plan(event, message("m"), {"do": "fork", "id": "f", "arms": [arm, arm]}),
                "f: Nobody reaches arm 2",
                {},
            ),
            (
                plan(event, {"do": "lot", "id": "l", "arms": [{"share": 0}, {"share": 100}]}),
                "l: Nobody reaches arm 1",
                {},
            ),
            (
                plan(event, {"do": "wait", "id": "w", "kind": "until near"}, message("m")),
                "w: It waits for a date, but the sequence does not",
                {},
            ),
            (
                plan(
                    {"on": "date", "days": -3},
                    {"do": "wait", "id": "w", "kind": "until near", "span": {"amount": 5, "unit": "days"}},
                    message("m"),
                ),
                "w: It waits until 5 days before the date, but people come in later",
                {},
            ),
            (
                plan(event, message("m", release={"kind": "exact", "begins": "09:00"})),
                "m: It lets everyone go at exactly 09:00",
                {"paced": True},
            ),
            (
                plan(event, message("m")),
                "start: “Other” starts on the same thing",
                {"same_event": ("Other",)},
            ),
            (
                plan(
                    {"on": "event", "happening": {"what": "tag", "tag": 4}},
                    {"do": "set", "id": "s", "tag": 4},
                    again={"kind": "each"},
                ),
                "s: It puts on the tag that starts it",
                {"tags": frozenset({4})},
            ),
            (
                plan(event, {"do": "bring", "id": "b", "sequence": 9}),
                "b: It starts itself again",
                {"sequences": frozenset({9}), "itself": 9},
            ),
            (
                plan(
                    {"on": "segment", "way": "is in", "rule": {"root": {"lines": [{"about": "orders"}]}}},
                    message("m"),
                    again={"kind": "after", "days": 1},
                ),
                "again: Everybody in the segment comes in again",
                {},
            ),
        ]
        for made, wanted, around in cases:
            self.assertIn(wanted, self.words(made, **around))
        sound = plan(event, wait("w", 2), message("m"), exit_events=[order])
        self.assertEqual(self.words(sound), "")

    def test_a_plan_that_cannot_be_read_is_said_in_a_sentence(self) -> None:
        for data, words in (
            ({"version": 9}, "newer Loyal Bell"),
            ({"steps": [{"do": "dance", "id": "a"}]}, "Step 1"),
            ([], "JSON object"),
            ({"steps": [message("a"), message("a")]}, "same identity"),
            ({"steps": [{"do": "lot", "id": "l", "arms": [{"share": 60}, {"share": 60}]}]}, "100 %"),
        ):
            with self.assertRaisesRegex(PlanProblem, words):
                read_plan(data)


class SideBySideTest(unittest.TestCase):
    @given(st.lists(st.integers(0, 3), min_size=1, max_size=7))
    def test_of_what_falls_together_the_lower_rank_goes_first_then_who_came_in_first(
        self, ranks: list[int]
    ) -> None:
        """As the live engine asks for places.

        With one message a day allowed, the others leave a day later each.
        """
        start, known = (
            at("2026-06-01T12:00"),
            SequenceHistory(snapshot(), SendPolicy(limits=(FrequencyCap(count=1, days=1),))),
        )
        consented(known)
        tree = tree_of(plan({"on": "hand"}, wait("w", 1), message("m"), patience=30))
        crossed = [TriggerHit(start, 0, "hand", start)]
        plays = [
            RehearsalScene(f"{number}", tree, rank, crossed=crossed) for number, rank in enumerate(ranks)
        ]
        found = rehearse(plays, known, start - 1, start + 60 * 86_400)
        self.assertEqual(
            [one.at for one in found.sent], [start + (1 + day) * 86_400 for day in range(len(ranks))]
        )
        self.assertEqual(
            [one.play for one in found.sent],
            [number for _, number in sorted((rank, number) for number, rank in enumerate(ranks))],
        )

    def test_a_book_without_anybody_rehearses_to_nothing(self) -> None:
        for start in (
            {"on": "event"},
            {"on": "lack", "days": 9},
            {"on": "date"},
            {
                "on": "segment",
                "way": "is in",
                "rule": {"root": {"lines": [{"about": "visits"}, {"about": "band", "bands": ["late"]}]}},
            },
        ):
            book = snapshot(0)
            found = rehearse(
                [RehearsalScene("key", tree_of(plan(start, message("m"))))],
                SequenceHistory(book, SendPolicy()),
                at("2026-05-01T00:00"),
                at("2026-06-01T00:00"),
            )
            self.assertEqual((found.sent, found.entered, found.under_way), ([], [], 0))
            figures_of = figures(found, book, 0, {}, {}, 12.0)
            self.assertEqual(
                (figures_of.messages, figures_of.baseline.share, len(figures_of.days)), (0, None, 32)
            )

    def test_who_is_overdue_at_the_beginning_is_looked_at_then(self) -> None:
        """As by a tick after a time in which there was none: hours late it leaves now, and later waits count
        from now; beyond its patience it is too late.
        """
        known = SequenceHistory(snapshot(), SendPolicy())
        consented(known)
        start = at("2026-06-05T12:00")
        tree = tree_of(plan({"on": "hand"}, message("m"), wait("w", 2), message("n"), patience=1))
        for hours, expected in ((5, [(start, "m"), (start + 2 * 86_400, "n")]), (40, [])):
            place = Position(start - 50 * 3_600, start - hours * 3_600, "m", start)
            scene = RehearsalScene("key", tree, crossed=[], standing=[(0, place)])
            found = rehearse([scene], known, start, start + 9 * 86_400)
            self.assertEqual([(one.at, one.step) for one in found.sent], expected)
            self.assertEqual([one.cause for one in found.outs], [""] if expected else ["too late"])

    def test_diaries_are_of_the_first_who_came_in(self) -> None:
        start, known = at("2026-06-01T12:00"), SequenceHistory(snapshot(), SendPolicy())
        consented(known)
        crossed = [
            TriggerHit(start + day * 86_400, person, "hand", start) for day, person in enumerate((2, 0, 1))
        ]
        played = RehearsalScene("key", tree_of(plan({"on": "hand"}, message("m"))), crossed=crossed)
        found = rehearse([played], known, start - 1, start + 60 * 86_400, watched=2)
        whole = ["came in", "send", "finished"]
        lines = {person: [line.what for line in mine] for person, mine in found.diaries.items()}
        self.assertEqual(lines, {2: whole, 0: whole})
        self.assertEqual(len(found.sent), 3, "those with a diary are not counted twice")


class ImaginedTest(unittest.TestCase):
    """What a rehearsal imagines is seen by the rules that ask for it."""

    START = at("2026-06-01T12:00")

    def rehearsed(self, made: Plan, days: int = 100, **rates: float) -> list[tuple[int, str]]:
        """(days after the start, step) of the messages to the one person who comes in by hand, or by the
        plan.
        """
        known = SequenceHistory(snapshot(1), SendPolicy())
        consented(known)
        hand = [TriggerHit(self.START, 0, "hand", self.START)] if made.start.on == "hand" else None
        drawn = {("email", act): rate for act, rate in rates.items()}
        found = rehearse(
            [RehearsalScene("key", tree_of(made), crossed=hand, number=7)],
            known,
            self.START - 1,
            self.START + days * 86_400,
            rates=drawn,
        )
        return [((one.at - self.START) // 86_400, one.step) for one in found.sent]

    def test_what_they_would_do_with_a_message_is_drawn_and_takes_an_hour(self) -> None:
        clicked = {
            "do": "fork",
            "id": "f",
            "arms": [{"did": "clicked", "steps": [message("yes")]}],
            "otherwise": [message("no")],
        }
        for minutes, rate, last in ((30, 1.0, "no"), (120, 1.0, "yes"), (120, 0.0, "no")):
            made = plan({"on": "hand"}, message("m"), wait("w", minutes, "minutes"), clicked)
            self.assertEqual(self.rehearsed(made, clicked=rate), [(0, "m"), (0, last)])

    def test_an_answer_ends_it_and_ends_a_wait(self) -> None:
        steps = (message("m"), wait("w", 2), message("n"))
        self.assertEqual(
            self.rehearsed(plan({"on": "hand"}, *steps, exit_events=[{"what": "replied"}]), replied=1.0),
            [(0, "m")],
        )
        until = {
            "do": "wait",
            "id": "w",
            "kind": "until event",
            "happening": {"what": "opened"},
            "span": {"amount": 9, "unit": "days"},
        }
        made = plan({"on": "hand"}, message("m"), until, message("n"))
        self.assertEqual(self.rehearsed(made, opened=1.0), [(0, "m"), (0, "n")])
        self.assertEqual(self.rehearsed(made, opened=0.0), [(0, "m"), (9, "n")])

    def test_once_a_month_means_after_thirty_days_without_a_message(self) -> None:
        quiet = {
            "about": "messages",
            "comparison": "exactly",
            "value": 0,
            "period": {"kind": "last days", "days": 30},
        }
        start = {"on": "segment", "way": "is in", "rule": {"root": {"lines": [quiet]}}, "at": "12:00"}
        made = plan(start, message("m"), again={"kind": "each"})
        self.assertEqual(self.rehearsed(made, 95), [(0, "m"), (30, "m"), (60, "m"), (90, "m")])

    def test_a_rule_sees_that_they_are_under_way_or_were_held_back(self) -> None:
        not_twice = {
            "root": {
                "lines": [{"about": "sequences", "sequence": 7, "state": "came in", "has": False, "days": 20}]
            }
        }
        everybody = {"root": {"lines": [{"about": "orders", "comparison": "exactly", "value": 0}]}}
        start = {"on": "segment", "way": "is in", "rule": everybody, "at": "12:00"}
        made = plan(start, message("m"), only=not_twice, again={"kind": "each"})
        self.assertEqual([day for day, _ in self.rehearsed(made, 50)], [0, 20, 40])


class ScoreTest(unittest.TestCase):
    def test_days_are_to_scale_long_rests_are_folded_and_arms_have_staves(self) -> None:
        random_split = {
            "do": "lot",
            "id": "l",
            "arms": [
                {
                    "name": "A",
                    "share": 50,
                    "steps": [
                        wait("w1", 60),
                        message("a"),
                        wait("w2", 3),
                        message("b"),
                        wait("w3", 6),
                        message("c"),
                    ],
                },
                {"name": "B", "share": 50, "steps": [wait("v1", 75), message("d")]},
            ],
        }
        made = plan({"on": "event"}, random_split)
        score = score_of(made, {})
        notes = {note.step: note for note in score.notes}
        self.assertEqual({step: notes[step].day for step in "abcd"}, {"a": 60, "b": 63, "c": 69, "d": 75})
        self.assertAlmostEqual((notes["c"].x - notes["b"].x) / (notes["b"].x - notes["a"].x), 2, places=1)
        self.assertEqual([fold.words for fold in score.folds], ["60 days"])
        self.assertEqual(len({notes["a"].y, notes["d"].y}), 2)
        self.assertEqual(len(score.curves), 2)

    @given(st.lists(st.integers(0, 400), min_size=1, max_size=12))
    def test_notes_stand_in_order_within_the_picture_and_never_on_one_another(self, days: list[int]) -> None:
        steps = [
            one for at_, amount in enumerate(days) for one in (wait(f"w{at_}", amount), message(f"m{at_}"))
        ]
        score = score_of(plan({"on": "event"}, *steps), {})
        xs = [note.x for note in score.notes]
        self.assertEqual(
            len(xs), sum(step.do == "message" for step in every_step(plan({"on": "event"}, *steps).steps))
        )
        self.assertTrue(all(later - earlier >= 26 for earlier, later in pairwise(xs)))
