"""The live engine and the rehearsal are the same thing: over random plans and books, with what must never happen."""

from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import delete, func, select

from loyalbell.core.care import Limit
from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.plan import MessageStep, Plan, every_step, read_plan
from loyalbell.core.sequences.rehearsal import Played, Rehearsal
from loyalbell.core.sequences.rehearse import rehearse
from loyalbell.core.sequences.tree import tree_of
from loyalbell.core.windows import Quiet, opens, seconds_of
from loyalbell.core.zones import zone_of
from loyalbell.desk.sequences import publishing
from loyalbell.desk.sequences.editing import keep
from loyalbell.desk.sequences.house import around_of, house_of
from loyalbell.desk.sequences.rehearsing import without_doings
from loyalbell.desk.ticking import tick
from loyalbell.store import tables
from loyalbell.store.journal import mark_whole
from loyalbell.store.tables import ConsentEntry, Enrolment, Order, Shop, Touch
from tests.books import NOW, ZONE
from tests.desk.test_sequences import SequenceCase

PEOPLE, DAYS = 4, 24
HOUR = 3_600
START = int(NOW.timestamp())
IDS = iter(range(10**9))


def steps(depth: int) -> st.SearchStrategy[list[dict[str, Any]]]:
    kinds = [
        st.builds(lambda release, channels: {"do": "message", "message": 1, "release": release, "channels": channels}, RELEASES, st.sampled_from([["email"], ["text", "email"]])),
        st.builds(lambda amount, unit: {"do": "wait", "span": {"amount": amount, "unit": unit}}, st.integers(0, 6), st.sampled_from(["hours", "days"])),
        st.builds(lambda days: {"do": "wait", "kind": "until event", "happening": {"what": "order"}, "span": {"amount": days, "unit": "days"}}, st.integers(1, 5)),
        st.builds(lambda at: {"do": "wait", "kind": "until time", "at": at, "weekdays": [0, 3]}, st.sampled_from(["07:55", "16:10"])),
    ]  # fmt: skip
    if depth:
        inner = steps(depth - 1)
        kinds += [
            st.builds(lambda share, one, two: {"do": "lot", "arms": [{"share": share, "steps": one}, {"share": 100 - share, "steps": two}]}, st.integers(20, 80), inner, inner),
            st.builds(lambda count, one, two: {"do": "fork", "arms": [{"rule": {"root": {"lines": [{"about": "orders", "value": count, "period": {"kind": "last days", "days": 9}}]}}, "steps": one}], "otherwise": two}, st.integers(1, 3), inner, inner),
            st.builds(lambda count, one: {"do": "fork", "arms": [{"rule": {"root": {"lines": [{"about": "orders", "value": count, "period": {"kind": "since entering"}}]}}, "steps": one}]}, st.integers(1, 2), inner),
            st.builds(lambda line, one, two: {"do": "fork", "arms": [{"rule": {"root": {"lines": [line]}}, "steps": one}], "otherwise": two}, OUR_DOINGS, inner, inner),
        ]  # fmt: skip
    return st.lists(st.one_of(kinds), min_size=1, max_size=4)


OUR_DOINGS = st.sampled_from([
    {"about": "messages", "value": 1, "period": {"kind": "last days", "days": 3}}, {"about": "messages", "comparison": "exactly", "value": 2},
    {"about": "messages", "value": 1, "channel": "text"}, {"about": "sequences", "state": "finished", "days": 6}, {"about": "sequences", "state": "left"},
])  # fmt: skip
ONLY = st.sampled_from([
    None, {"root": {"lines": [{"about": "sequences", "state": "under way", "has": False}]}},
    {"root": {"lines": [{"about": "messages", "comparison": "exactly", "value": 0, "period": {"kind": "last days", "days": 5}}]}},
])  # fmt: skip
RELEASES = st.sampled_from([
    {}, {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"},
    {"kind": "window", "begins": "19:00", "ends": "23:00"}, {"kind": "exact", "begins": "09:15"},
])  # fmt: skip
STARTS = st.sampled_from([
    {"on": "event", "happening": {"what": "order"}}, {"on": "event", "happening": {"what": "order", "nth": 2}},
    {"on": "lack", "happening": {"what": "order"}, "days": 4},
    {"on": "segment", "way": "joins", "rule": {"root": {"lines": [{"about": "orders", "value": 2}]}}},
    {"on": "segment", "way": "is in", "rule": {"root": {"lines": [{"about": "orders", "value": 1, "period": {"kind": "last days", "days": 3}}]}}},
])  # fmt: skip
PLANS = st.fixed_dictionaries({
    "start": STARTS, "only": ONLY, "again": st.sampled_from([{"kind": "never"}, {"kind": "each"}, {"kind": "after", "days": 5}]),
    "stops": st.sampled_from([[], [{"what": "order"}], [{"what": "order", "least": 3_000}]]),
    "held_back": st.sampled_from([0, 30]), "patience": st.sampled_from([0, 3]), "steps": st.builds(lambda more: [*more, {"do": "message", "message": 1}], steps(2)),
})  # fmt: skip
SIMPLE = st.fixed_dictionaries({
    "start": STARTS, "again": st.sampled_from([{"kind": "never"}, {"kind": "each"}]), "patience": st.sampled_from([0, 3]), "steps": steps(0),
})  # fmt: skip
ORDERS = st.lists(
    st.tuples(st.integers(1, PEOPLE), st.integers(-6 * 24 * 4, DAYS * 24 * 4), st.sampled_from([1_000, 5_000])), min_size=4, max_size=24
)  # fmt: skip
REFUSALS = st.lists(st.tuples(st.integers(1, PEOPLE), st.integers(0, DAYS * 24)), max_size=2)
LIMITS = st.sampled_from([[], [Limit(count=1, days=2)], [Limit(count=2, days=7), Limit(count=1, days=1)]])


def named(plan: dict[str, Any]) -> Plan:
    """With an identity for each step."""

    def name(steps_: list[dict[str, Any]]) -> None:
        for one in steps_:
            one["id"] = f"s{next(IDS)}"
            for arm in one.get("arms", ()):
                name(arm.get("steps", []))
            name(one.get("otherwise", []))

    copied = read_copy(plan)
    name(copied["steps"])
    return read_plan(copied)


def read_copy(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: read_copy(one) for key, one in value.items()}
    return [read_copy(one) for one in value] if isinstance(value, list) else value


class AgreeTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        for at in range(PEOPLE):
            self.add_person(f"p{at}@example.com")
        self.letter()

    def clear(self) -> None:
        with self.desk.book.writing() as session:
            for table in (Touch, Enrolment, tables.SequenceVersion, tables.Sequence, Order):
                session.execute(delete(table))
            session.execute(delete(ConsentEntry).where(ConsentEntry.at >= NOW))
            mark_whole(session, "orders", "consents", "touches")
        self.clock.instant = NOW

    def fill(self, orders: list[tuple[int, int, int]]) -> None:
        """All orders beforehand; nothing may look past the clock."""
        with self.desk.book.writing() as session:
            for person, quarter, money in sorted(orders, key=lambda one: one[1]):
                at = datetime.fromtimestamp(START + quarter * 900 + 7, UTC)
                session.add(Order(person_id=person, placed_at=at, total_minor=money, currency="USD"))
            mark_whole(session, "orders")

    def refuse(self, person: int, at: datetime) -> None:
        with self.desk.book.writing() as session:
            session.add(
                ConsentEntry(person_id=person, channel="email", state="refused", at=at, source="test")
            )
            mark_whole(session, "consents")

    def live(self, refusals: list[tuple[int, int]], off: tuple[int, int] = (0, 0)) -> None:
        """The clock stops at every instant at which anything could happen; start rules look at 9:00, 13:00 UTC.

        The program is off after the first and before the second instant of ``off``.
        """
        end = START + DAYS * 86_400
        with self.desk.book.reading() as session:
            stops = {int(at.timestamp()) for at in session.scalars(select(Order.placed_at)) if at > NOW}
        stops |= {START - START % HOUR + day * 86_400 for day in range(1, DAYS)}
        said: dict[int, list[int]] = {}
        for person, hour in refusals:
            said.setdefault(START + hour * HOUR + 11, []).append(person)
        stops |= set(said)
        while True:
            now = int(self.clock.now().timestamp())
            with self.desk.book.reading() as session:
                due = session.scalar(select(func.min(Enrolment.due_at)).where(Enrolment.state == "under way"))
            later = [one for one in stops if one > now] + (
                [max(int(due.timestamp()), now + 1)] if due else []
            )
            if not later or min(later) > end:
                return
            coming = off[1] if off[0] < min(later) < off[1] else min(later)
            self.clock.instant = datetime.fromtimestamp(coming, UTC)
            for at in [one for one in said if one <= coming]:
                for person in said.pop(at):
                    self.refuse(person, datetime.fromtimestamp(at, UTC))
            tick(self.desk, self.sender)

    def rehearsed(self, sequence_id: int, plan: Plan) -> Rehearsal:
        with self.desk.book.reading() as session:
            sequence = session.get_one(tables.Sequence, sequence_id)
            house = house_of(session, session.get_one(Shop, 1), NOW)
            around = around_of(session, house)
        known = Known(without_doings(self.desk.ledger(), [sequence_id], START), house)
        return rehearse(
            [Played(sequence.key, tree_of(plan), number=sequence_id)],
            known,
            START,
            START + DAYS * 86_400,
            around,
        )

    @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
    @given(PLANS, ORDERS, REFUSALS, LIMITS, st.sampled_from([("", ""), ("21:00", "08:00")]))
    def test_live_and_rehearsal_agree_and_nothing_forbidden_happens(self, drawn: dict[str, Any], orders: Any, refusals: Any, limits: Any, quiet: Any) -> None:  # fmt: skip
        plan = named(drawn)
        self.clear()
        self.care(limits=limits, quiet_begins=quiet[0], quiet_ends=quiet[1], guard_floor=10_000)
        self.fill(orders)
        made = keep(self.desk, None, "Drawn", plan, "Ida")
        self.publish_anyhow(made)
        self.live(refusals)
        touches = self.touches()
        mine = sorted(
            (int(one.due_at.timestamp()), one.person_id, one.step) for one in touches if one.state == "sent"
        )
        dry = self.rehearsed(made, plan)
        theirs = sorted((one.at, one.person + 1, one.step) for one in dry.sent)
        self.assertEqual(mine, theirs)
        causes = Counter(one.cause for one in touches if one.state == "withheld")
        self.assertEqual(causes, Counter(one.cause for one in dry.refused))
        self.forbidden(plan, orders, refusals, limits, quiet, touches)

    @settings(max_examples=6, deadline=None, suppress_health_check=list(HealthCheck))
    @given(SIMPLE, ORDERS, st.integers(0, 6 * 24), st.integers(1, 4 * 24))
    def test_after_a_gap_the_same_people_come_in_and_get_what_is_not_too_late(self, drawn: dict[str, Any], orders: Any, begins: int, hours: int) -> None:  # fmt: skip
        """Starts are caught up once and in order; each message goes at its time, after the gap, or is too late."""
        plan, off = named(drawn), (START + begins * HOUR, START + (begins + hours) * HOUR)
        self.clear()
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        self.fill(orders)
        ran = []
        for gap in ((0, 0), off):
            with self.desk.book.writing() as session:
                for table in (Touch, Enrolment, tables.SequenceVersion, tables.Sequence):
                    session.execute(delete(table))
                mark_whole(session, "touches", "ways")
            self.clock.instant = NOW
            self.publish_anyhow(keep(self.desk, None, "Drawn", plan, "Ida"))
            self.live([], gap)
            ran.append((self.ways(), self.touches()))
        (ways, touches), (ways_off, touches_off) = ran
        mark = lambda way: (way.person_id, way.key, way.entered_at, way.state == "kept out")  # noqa: E731
        self.assertEqual(sorted(map(mark, ways)), sorted(map(mark, ways_off)))
        done = {
            (one.person_id, one.key) for some in (ways, ways_off) for one in some if one.state != "finished"
        }
        was, then = ({(one.person_id, one.occurrence, one.step): one for one in some if (one.person_id, one.occurrence) not in done} for some in (touches, touches_off))  # fmt: skip
        self.assertEqual(set(was), set(then))
        for key, one in then.items():
            if one.state == "sent" and one.due_at != was[key].due_at:
                self.assertGreaterEqual(int(one.due_at.timestamp()), off[1])
            if one.state == "withheld" and was[key].state == "sent":
                self.assertEqual(one.cause, "too late")

    def publish_anyhow(self, made: int) -> None:
        """Some drawn plans have mistakes that the check refuses; the engine must stand them all the same."""
        checked = publishing.must_fix
        publishing.must_fix = lambda found: False  # type: ignore[assignment]
        try:
            publishing.publish(self.desk, made, publishing.Choices(), "Ida", normal=10_000)
        finally:
            publishing.must_fix = checked

    def forbidden(
        self, plan: Plan, orders: Any, refusals: Any, limits: Any, quiet: Any, touches: list[Touch]
    ) -> None:
        sent = [one for one in touches if one.state == "sent"]
        marks = Counter((one.person_id, one.step, one.occurrence) for one in sent)
        self.assertTrue(all(count == 1 for count in marks.values()), "nobody gets a step twice")
        zone = zone_of(ZONE)
        ways = {(one.person_id, one.key): one for one in self.ways()}
        kinds = {one.id: one for one in every_step(plan.steps)}
        refused = {
            person: START + hour * HOUR + 11 for person, hour in sorted(refusals, key=lambda one: -one[1])
        }
        for one in sent:
            at = int(one.due_at.timestamp())
            second = zone.local(at)[1]
            if quiet[0]:
                self.assertTrue(seconds_of("08:00") <= second < seconds_of("21:00"), "never in quiet hours")
            step = kinds[one.step]
            assert isinstance(step, MessageStep)
            self.assertTrue(opens(at, step.release, Quiet(*quiet), zone) == at, "never outside its window")
            self.assertGreater(refused.get(one.person_id, at + 1), at, "never against a refusal")
            entered = int(ways[one.person_id, one.occurrence].entered_at.timestamp())
            for stop in plan.stops:
                done = [
                    START + quarter * 900 + 7
                    for person, quarter, money in orders
                    if person == one.person_id and money >= (stop.least or 0)
                ]
                self.assertFalse(
                    any(entered < when <= at for when in done), "nothing after the stop rule holds"
                )
        self.within_limits(sent, limits)

    def within_limits(self, sent: list[Touch], limits: list[Limit]) -> None:
        for person in range(1, PEOPLE + 1):
            times = sorted(one.due_at for one in sent if one.person_id == person)
            for limit in limits:
                for early, late in zip(times, times[limit.count :], strict=False):
                    self.assertGreaterEqual(late - early, timedelta(days=limit.days))
