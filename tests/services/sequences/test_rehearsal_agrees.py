"""The live engine and the rehearsal are the same thing: over random plans and books, with what must never
happen.
"""

from collections import Counter
from datetime import UTC, datetime, timedelta
from itertools import count
from typing import Any
from unittest.mock import patch

from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from sqlalchemy import delete, func, select

from loyalbell.core.clock.send_windows import QuietHours, opens, seconds_of
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import MessageStep, Plan, every_step
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Rehearsal, RehearsalScene
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.services.rehearsal import forecast
from loyalbell.services.rehearsal.rehearsals import really_sent, without_doings
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing, publishing, volume_guard
from loyalbell.services.sequences.commands import keep
from loyalbell.services.sequences.places import seconds
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.services.settings.channels import HoldoutSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import ConsentEntry, Delivery, Enrolment, HeldBatch, Order, Shop
from tests.core.sequences.drawn_plans import PLANS, SIMPLE, named
from tests.services.sequences.test_runner import SequenceCase
from tests.support import NOW, ZONE, FakeSender

PEOPLE, DAYS = 4, 24
HOUR = 3_600
QUARTER = 900
START = int(NOW.timestamp())
DISTURBANCES = ("silenced", "paused", "held", "put off", "off")


WAITS_AN_HOUR = {
    "start": {"on": "event", "happening": {"what": "order"}},
    "patience": 0,
    "steps": [{"do": "wait", "span": {"amount": 1, "unit": "hours"}}, {"do": "message", "message": 1}],
}
WAITS_FOR_AN_ORDER = {
    "start": {
        "on": "segment",
        "way": "is in",
        "rule": {
            "root": {"lines": [{"about": "orders", "value": 1, "period": {"kind": "last days", "days": 3}}]}
        },
    },
    "patience": 0,
    "steps": [
        {
            "do": "wait",
            "kind": "until event",
            "happening": {"what": "order"},
            "span": {"amount": 4, "unit": "days"},
        },
        {"do": "message", "message": 1},
    ],
}
"""Seen: whoever stood at the wait when the coming weeks began was not woken by the order in them."""
ORDERS = st.lists(
    st.tuples(
        st.integers(1, PEOPLE), st.integers(-6 * 24 * 4, DAYS * 24 * 4), st.sampled_from([1_000, 5_000])
    ),
    min_size=4,
    max_size=24,
)
REFUSALS = st.lists(st.tuples(st.integers(1, PEOPLE), st.integers(0, DAYS * 24)), max_size=2)
LIMITS = st.sampled_from(
    [[], [FrequencyCap(count=1, days=2)], [FrequencyCap(count=2, days=7), FrequencyCap(count=1, days=1)]]
)


class AgreeTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        for at in range(PEOPLE):
            self.add_person(f"p{at}@example.com")
        self.letter()
        self.keys = count()
        fixed = patch("loyalbell.services.sequences.commands.new_key", lambda: f"key {next(self.keys)}")
        fixed.start()
        self.addCleanup(fixed.stop)

    def clear(self) -> None:
        self.keys = count()
        with self.application.database.transaction() as session:
            for table in (Delivery, Enrolment, schema.SequenceVersion, schema.Sequence, Order):
                session.execute(delete(table))
            session.execute(delete(ConsentEntry).where(ConsentEntry.at >= NOW))
        self.clock.instant = NOW

    def fill(self, orders: list[tuple[int, int, int]]) -> None:
        """All orders beforehand; nothing may look past the clock."""
        with self.application.database.transaction() as session:
            for person, quarter, money in sorted(orders, key=lambda one: one[1]):
                at = datetime.fromtimestamp(START + quarter * 900 + 7, UTC)
                session.add(Order(person_id=person, placed_at=at, total_minor=money, currency="USD"))

    def refuse(self, person: int, at: datetime) -> None:
        with self.application.database.transaction() as session:
            session.add(
                ConsentEntry(person_id=person, channel="email", state="refused", at=at, source="test")
            )

    def live(
        self,
        refusals: list[tuple[int, int]],
        off: tuple[int, int] = (0, 0),
        end: int = START + DAYS * 86_400,
        begun: bool = False,
    ) -> None:
        """The clock stops at every instant at which anything could happen.

        Start rules look at 9:00, 13:00 UTC.

        The program is off after the first and before the second instant of ``off``.
        """
        if begun:
            tick(self.application, self.sender)
        with self.application.database.reading() as session:
            exit_events = {int(at.timestamp()) for at in session.scalars(select(Order.placed_at)) if at > NOW}
        exit_events |= {START - START % HOUR + day * 86_400 for day in range(1, DAYS + 1)}
        said: dict[int, list[int]] = {}
        for person, hour in refusals:
            said.setdefault(START + hour * HOUR + 11, []).append(person)
        exit_events |= set(said)
        while True:
            now = int(self.clock.now().timestamp())
            with self.application.database.reading() as session:
                place = session.scalar(
                    select(func.min(Enrolment.due_at)).where(Enrolment.state == "under way")
                )
                message = session.scalar(
                    select(func.min(Delivery.due_at)).where(
                        Delivery.state == "planned", Delivery.due_at > self.clock.now()
                    )
                )
            later = [one for one in exit_events if one > now]
            # what is overdue after a tick (paused, silenced) waits; second by second would take hours
            later += [due if due > now else now + QUARTER for due in map(seconds, (place, message)) if due]
            if not later or min(later) > end:
                return
            coming = off[1] if off[0] < min(later) < off[1] else min(later)
            self.clock.instant = datetime.fromtimestamp(coming, UTC)
            for at in [one for one in said if one <= coming]:
                for person in said.pop(at):
                    self.refuse(person, datetime.fromtimestamp(at, UTC))
            tick(self.application, self.sender)

    def rehearsed(self, sequence_id: int, plan: Plan) -> Rehearsal:
        with self.application.database.reading() as session:
            sequence = session.get_one(schema.Sequence, sequence_id)
            policy = send_policy_of(session, session.get_one(Shop, 1), NOW)
            around = around_of(session, policy)
        known = SequenceHistory(without_doings(self.application.snapshot(), [sequence_id], START), policy)
        return rehearse(
            [RehearsalScene(sequence.key, tree_of(plan), number=sequence_id)],
            known,
            START,
            START + DAYS * 86_400,
            around,
        )

    @settings(max_examples=7, deadline=None, suppress_health_check=list(HealthCheck))
    @given(
        PLANS,
        ORDERS,
        REFUSALS,
        LIMITS,
        st.sampled_from([("", ""), ("21:00", "08:00")]),
        st.sampled_from([0, 0, 50]),
    )
    def test_live_and_rehearsal_agree_and_nothing_forbidden_happens(
        self, drawn: dict[str, Any], orders: Any, refusals: Any, limits: Any, quiet: Any, held_out: int
    ) -> None:
        plan = named(drawn)
        self.clear()
        with self.application.database.transaction() as session:
            shares = {"2026-2": held_out, "2026-3": held_out}
            HoldoutSettings(since=NOW.date() if held_out else None, fixed=shares).save(session)
        self.care(limits=limits, quiet_begins=quiet[0], quiet_ends=quiet[1], guard_floor=10_000)
        self.fill(orders)
        made = keep(self.application, None, "Drawn", plan, "Ida")
        self.publish_anyhow(made)
        self.live(refusals)
        deliveries = self.deliveries()
        mine = sorted(
            (int(one.due_at.timestamp()), one.person_id, one.step)
            for one in deliveries
            if one.state == "sent"
        )
        dry = self.rehearsed(made, plan)
        theirs = sorted((one.at, one.person + 1, one.step) for one in dry.sent)
        self.assertEqual(mine, theirs)
        causes = Counter(one.cause for one in deliveries if one.state == "withheld")
        self.assertEqual(causes, Counter(one.cause for one in dry.refused))
        self.forbidden(plan, orders, refusals, limits, quiet, deliveries)

    @settings(max_examples=4, deadline=None, suppress_health_check=list(HealthCheck))
    @given(SIMPLE, ORDERS, st.integers(0, 6 * 24), st.integers(1, 4 * 24))
    def test_after_a_gap_the_same_people_come_in_and_get_what_is_not_too_late(
        self, drawn: dict[str, Any], orders: Any, begins: int, hours: int
    ) -> None:
        """Starts are caught up once and in order.

        Each message goes at its time, after the gap, or is too late.
        """
        plan, off = named(drawn), (START + begins * HOUR, START + (begins + hours) * HOUR)
        self.clear()
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        self.fill(orders)
        ran = []
        for gap in ((0, 0), off):
            with self.application.database.transaction() as session:
                for table in (Delivery, Enrolment, schema.SequenceVersion, schema.Sequence):
                    session.execute(delete(table))
            self.clock.instant = NOW
            self.publish_anyhow(keep(self.application, None, "Drawn", plan, "Ida"))
            self.live([], gap)
            ran.append((self.enrolments(), self.deliveries()))
        (enrolments, deliveries), (ways_off, touches_off) = ran
        mark = lambda way: (way.person_id, way.key, way.entered_at, way.state == "kept out")  # noqa: E731
        self.assertEqual(sorted(map(mark, enrolments)), sorted(map(mark, ways_off)))
        done = {
            (one.person_id, one.key)
            for some in (enrolments, ways_off)
            for one in some
            if one.state != "finished"
        }
        was, then = (
            {
                (one.person_id, one.occurrence, one.step): one
                for one in some
                if (one.person_id, one.occurrence) not in done
            }
            for some in (deliveries, touches_off)
        )
        self.assertEqual(set(was), set(then))
        for key, one in then.items():
            if one.state == "sent" and one.due_at != was[key].due_at:
                self.assertGreaterEqual(int(one.due_at.timestamp()), off[1])
            if one.state == "withheld" and was[key].state == "sent":
                self.assertEqual(one.cause, "too late")

    @settings(max_examples=6, deadline=None, suppress_health_check=list(HealthCheck))
    @given(
        st.one_of(PLANS, SIMPLE),
        ORDERS,
        LIMITS,
        st.sampled_from([("", ""), ("21:00", "08:00")]),
        st.sampled_from(DISTURBANCES),
        st.tuples(st.integers(0, 8 * 24), st.integers(1, 60)),
    )
    @example(WAITS_AN_HOUR, [(1, 0, 1_000)], [], ("", ""), "silenced", (0, 1))
    @example(WAITS_FOR_AN_ORDER, [(1, 280, 1_000), (1, 616, 1_000)], [], ("", ""), "silenced", (47, 42))
    def test_after_any_disturbance_the_coming_weeks_are_what_then_happens(
        self, drawn: Any, orders: Any, limits: Any, quiet: Any, disturbance: str, when: tuple[int, int]
    ) -> None:
        """Held and released, silenced, paused and resumed, put off by the network, or the program off: from
        the instant at which that is over, at any hour, the rehearsal says what the engine does.
        """
        plan = named(drawn)
        self.clear()
        with self.application.database.transaction() as session:
            HoldoutSettings().save(session)
        self.care(limits=limits, quiet_begins=quiet[0], quiet_ends=quiet[1], guard_floor=10_000, silent=[])
        self.fill(orders)
        made = keep(self.application, None, "Drawn", plan, "Ida")
        self.publish_anyhow(made, normal=0)
        begins = START + when[0] * HOUR + 13
        over = begins + when[1] * HOUR
        self.live([], end=begins)
        self.disturb(disturbance, made, begins, over)
        before = {one.id for one in self.deliveries() if one.state in ("sent", "withheld")}
        dry = self.coming(made, plan, over)
        self.live([], begun=True)
        after = [one for one in self.deliveries() if one.id not in before]
        # what has been due since before leaves as it is over, in the rehearsal too
        mine = sorted(
            (max(int(one.due_at.timestamp()), over), one.person_id, one.step)
            for one in after
            if one.state == "sent"
        )
        theirs = sorted((max(one.at, over), one.person + 1, one.step) for one in dry.sent)
        self.assertEqual(mine, theirs)

    def disturb(self, what: str, made: int, begins: int, over: int) -> None:
        """From ``begins`` to ``over``; then the clock stands at ``over``, everything is caught up with, and
        nothing more has left.
        """
        self.clock.instant = datetime.fromtimestamp(begins, UTC)
        busy, later = FakeSender("try later", "451 come back"), self.sender
        if what == "silenced":
            self.care(silent=["email", "text", "chat"])
        elif what == "paused":
            pausing.pause(self.application, made, "Ida")
        elif what == "held":
            self.care(guard_floor=1, guard_factor=1.0, newcomer_percent=0.01)
        elif what == "put off":
            self.sender = busy
        if what != "off":
            self.live([], end=over - 1, begun=True)
        self.sender = later
        self.clock.instant = datetime.fromtimestamp(over, UTC)
        if what == "paused":
            pausing.resume(self.application, made, True, True, "Ida")
        self.care(silent=["email", "text", "chat"], guard_floor=10_000)
        for batch in self.held_batches():
            volume_guard.decide(self.application, batch, None, "Ida")
        tick(self.application, self.sender)
        self.care(silent=[])

    def held_batches(self) -> list[int]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(HeldBatch.id).where(HeldBatch.state == "held")))

    def coming(self, sequence_id: int, plan: Plan, now: int) -> Rehearsal:
        """From where everybody stands now to the end."""
        with self.application.database.reading() as session:
            sequence = session.get_one(schema.Sequence, sequence_id)
            policy = send_policy_of(session, session.get_one(Shop, 1), self.clock.now())
            around = around_of(session, policy)
            known = SequenceHistory(self.application.snapshot(), policy)
            numbers = {person: number for number, person in enumerate(known.ids)}
            standing = forecast.standing_at(session, numbers, now).get(sequence_id, [])
            before = forecast.came_before(session, numbers).get(sequence_id, {})
            sent = really_sent(session, self.clock.now(), [])
        scene = RehearsalScene(
            sequence.key, tree_of(plan), before=before, standing=standing, number=sequence_id
        )
        already = sorted((at, numbers[person]) for at, person in sent)
        return rehearse([scene], known, now, START + DAYS * 86_400, around, already=already)

    def publish_anyhow(self, made: int, normal: int = 10_000) -> None:
        """Some drawn plans have mistakes that the check refuses; the engine must stand them all the same."""
        checked = publishing.must_fix
        publishing.must_fix = lambda found: False  # type: ignore[assignment]
        try:
            publishing.publish(self.application, made, publishing.Choices(), "Ida", normal=normal)
        finally:
            publishing.must_fix = checked

    def forbidden(
        self, plan: Plan, orders: Any, refusals: Any, limits: Any, quiet: Any, deliveries: list[Delivery]
    ) -> None:
        sent = [one for one in deliveries if one.state == "sent"]
        marks = Counter((one.person_id, one.step, one.occurrence) for one in sent)
        self.assertTrue(all(count == 1 for count in marks.values()), "nobody gets a step twice")
        zone = zone_of(ZONE)
        enrolments = {(one.person_id, one.key): one for one in self.enrolments()}
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
            self.assertTrue(
                opens(at, step.release, QuietHours(*quiet), zone) == at, "never outside its window"
            )
            self.assertGreater(refused.get(one.person_id, at + 1), at, "never against a refusal")
            entered = int(enrolments[one.person_id, one.occurrence].entered_at.timestamp())
            for stop in plan.exit_events:
                done = [
                    START + quarter * 900 + 7
                    for person, quarter, money in orders
                    if person == one.person_id and money >= (stop.least or 0)
                ]
                self.assertFalse(
                    any(entered < when <= at for when in done), "nothing after the stop rule holds"
                )
        self.within_limits(sent, limits)

    def within_limits(self, sent: list[Delivery], limits: list[FrequencyCap]) -> None:
        for person in range(1, PEOPLE + 1):
            times = sorted(one.due_at for one in sent if one.person_id == person)
            for limit in limits:
                for early, late in zip(times, times[limit.count :], strict=False):
                    self.assertGreaterEqual(late - early, timedelta(days=limit.days))
