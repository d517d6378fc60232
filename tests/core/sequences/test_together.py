"""People moved on together get what each would get alone: every kind of step, over random plans and books."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date
from typing import Any
from unittest import TestCase
from unittest.mock import patch
from zoneinfo import available_timezones

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from loyalbell.core.clock.durations import ManyAfter, Span, after
from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import DAY, zone_of
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import (
    PERSON_WORDS,
    Appointments,
    Consents,
    HistorySnapshot,
    Orders,
    People,
    Suppressions,
    WordCodes,
)
from loyalbell.core.policy.holdout import Holdout
from loyalbell.core.policy.send_policy import FrequencyCap, next_allowed
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.engine import step
from loyalbell.core.sequences.engine_facts import MessageFacts, PersonFacts, SendPolicy, SequenceHistory
from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Rehearsal, RehearsalScene
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.steps import BY_DO
from loyalbell.core.sequences.steps.wait import ManyWait, WaitStep, wait_until
from loyalbell.core.sequences.together import looks
from loyalbell.core.sequences.together.answers import Answers, LiveAnswers
from loyalbell.core.sequences.together.questions import ANCHOR, ARRIVED, ENTERED, Question
from loyalbell.core.sequences.together.standing import looked_at
from loyalbell.core.sequences.together.suits import suits
from loyalbell.core.sequences.triggers import TriggerHit
from loyalbell.core.sequences.walk import LEFT, Position
from tests.core.sequences.drawn_plans import PLANS, named, steps

ZONE = "America/New_York"
ZONES = ("Australia/Lord_Howe", "Asia/Kathmandu", "Europe/Lisbon")
START = 1_772_000_000
"""25 February 2026; the clocks of New York go forward on 8 March."""
DAYS, PEOPLE = 24, 14
END = START + DAYS * DAY
EVERYBODY = 10**9

DID = st.builds(
    lambda did, denied, inner: {
        "do": "fork",
        "arms": [{"did": did, "denied": denied, "steps": [{"do": "message", "message": 2}][:inner]}],
        "otherwise": [{"do": "wait", "span": {"amount": 1}}],
    },
    st.sampled_from(["got", "opened", "clicked"]),
    st.booleans(),
    st.integers(0, 1),
)
STEPS: list[dict[str, Any]] = [
    {"do": "offer", "offer": 1},
    {"do": "set", "tag": 1},
    {"do": "tell", "words": "Call them."},
    {"do": "hook", "name": "till"},
    {"do": "hand off", "list": "post"},
    {"do": "bring", "sequence": 3},
    {"do": "stop contact"},
    {"do": "end"},
    {"do": "message", "message": None},
    {"do": "message", "message": 2, "channels": ["chat", "email"]},
    {"do": "wait", "span": {"amount": 1, "unit": "months"}},
    {"do": "wait", "span": {"amount": 1, "unit": "weeks"}},
    {"do": "wait", "kind": "until date", "day": "2026-03-08", "at": "02:30"},
]
OTHER_STEPS = st.sampled_from(STEPS)
RULES = st.sampled_from(
    [
        {"about": "orders", "value": 2},
        {"about": "orders", "value": 1, "period": {"kind": "last days", "days": 4}},
        {"about": "orders", "value": 1, "period": {"kind": "since entering"}},
        {"about": "top", "percent": 40},
    ]
)
STARTS = st.sampled_from(
    [
        {"on": "event", "happening": {"what": "order"}},
        {"on": "event", "happening": {"what": "visit"}},
        {"on": "event", "happening": {"what": "booking"}},
        {"on": "date", "which": "birthday", "days": -3, "at": "23:30"},
        {"on": "date", "which": "appointment", "days": -1, "at": "10:00"},
    ]
)


def near(draw: st.DrawFn) -> dict[str, Any]:
    """A plan that starts on a date and waits until near it."""
    plan: dict[str, Any] = draw(PLANS)
    plan["start"] = {"on": "date", "which": "birthday", "days": draw(st.integers(-6, 0)), "at": "09:00"}
    plan["steps"] = [
        {"do": "wait", "kind": "until near", "span": {"amount": draw(st.integers(0, 2)), "unit": "days"}},
        *plan["steps"],
    ]
    return plan


@st.composite
def plans(draw: st.DrawFn) -> dict[str, Any]:
    if draw(st.integers(0, 4)) == 0:
        return near(draw)
    plan: dict[str, Any] = draw(PLANS)
    plan["steps"] = [*draw(steps(1, DID, OTHER_STEPS)), {"do": "message", "message": 1}]
    if draw(st.booleans()):
        plan["start"] = draw(STARTS)
    if draw(st.integers(0, 2)):
        plan["only"] = draw(st.one_of(st.none(), RULES.map(lambda line: {"root": {"lines": [line]}})))
    if draw(st.integers(0, 3)) == 0:
        plan["stop_when"] = {"root": {"lines": [draw(RULES)]}}
    plan["keep_to_it"] = plan["only"] is not None and draw(st.booleans())
    plan["stops"] = draw(
        st.sampled_from([[], [{"what": "order"}], [{"what": "visit"}, {"what": "order", "least": 3_000}]])
    )
    return plan


def instants(low: int, high: int) -> st.SearchStrategy[int]:
    """On a coarse grid, so that people are alike; sometimes not."""
    grid = st.integers(low * 2, high * 2).map(lambda half: START + half * (DAY // 2))
    return st.one_of(grid, grid, st.integers(START + low * DAY, START + high * DAY))


@st.composite
def books(draw: st.DrawFn) -> HistorySnapshot:
    people = st.integers(0, PEOPLE - 1)
    orders = sorted(
        draw(
            st.lists(
                st.tuples(
                    instants(-8, DAYS),
                    people,
                    st.sampled_from([900, 5_000]),
                    st.booleans(),
                    st.integers(0, 5),
                ),
                min_size=10,
                max_size=60,
            )
        )
    )
    said = sorted(
        [
            (START - 90 * DAY, one, channel, draw(st.sampled_from([1, 1, 1, 0, 2])))
            for one in range(PEOPLE)
            for channel in (0, 1)
        ]
        + draw(
            st.lists(st.tuples(instants(0, DAYS), people, st.integers(0, 2), st.integers(0, 3)), max_size=6)
        )
    )
    stopped = sorted(
        draw(
            st.lists(st.tuples(instants(-3, DAYS), people, st.integers(0, 2), st.integers(1, 9)), max_size=3)
        )
    )
    booked = sorted(draw(st.lists(st.tuples(instants(0, DAYS), people, st.integers(1, 20)), max_size=8)))
    words = WordCodes()
    codes = np.zeros((PEOPLE, len(PERSON_WORDS)), dtype=np.int32)
    for one in range(PEOPLE):
        zone = draw(st.sampled_from(["", "", "", *ZONES]))
        codes[one, PERSON_WORDS.index("zone")] = words[zone] if zone else 0
    left = [draw(st.sampled_from([int(NEVER)] * 9 + [START + 9 * DAY])) for _ in range(PEOPLE)]
    return HistorySnapshot(
        ZONE,
        "USD",
        People.of(
            np.arange(1, PEOPLE + 1) * 3,
            [START - 400 * DAY] * (PEOPLE - 1) + [START + 5 * DAY],
            closed_at=left,
            has_address=np.asarray([[draw(st.integers(0, 6)) > 0, True, False] for _ in range(PEOPLE)]),
            birthday_month=np.full(PEOPLE, 3, dtype=np.int32),
            birthday_day=np.asarray([draw(st.integers(1, 9)) for _ in range(PEOPLE)], dtype=np.int32),
            words=codes,
        ),
        words=words,
        orders=Orders.of(
            key=np.arange(len(orders)),
            person=[row[1] for row in orders],
            at=[row[0] for row in orders],
            money=[row[2] for row in orders],
            in_person=[row[3] for row in orders],
            void_at=[row[0] + DAY if row[4] == 0 else int(NEVER) for row in orders],
        ),
        consents=Consents.of(
            at=[row[0] for row in said],
            person=[row[1] for row in said],
            channel=[row[2] for row in said],
            state=[row[3] for row in said],
        ),
        suppressions=Suppressions.of(
            at=[row[0] for row in stopped],
            person=[row[1] for row in stopped],
            channel=[row[2] for row in stopped],
            lifted_at=[row[0] + row[3] * DAY for row in stopped],
        ),
        appointments=Appointments.of(
            key=np.arange(len(booked)),
            at=[row[0] for row in booked],
            person=[row[1] for row in booked],
            booked_at=[row[0] - row[2] * DAY for row in booked],
        ),
    )


POLICIES = st.builds(
    lambda limits, quiet, paused, seldom, held: SendPolicy(
        limits=limits,
        quiet=quiet,
        letters={1: MessageFacts(), 2: MessageFacts(marketing=False, channels=frozenset({"email", "text"}))},
        paused={3: paused, 9: paused},
        seldom={6: seldom, 12: seldom},
        holdout=Holdout(held, date(2026, 3, 1) if held else None),
    ),
    st.sampled_from(
        [
            (),
            (FrequencyCap(count=1, days=2),),
            (FrequencyCap(count=2, days=7), FrequencyCap(count=1, days=1)),
        ]
    ),
    st.sampled_from([QuietHours(), QuietHours("21:00", "08:00")]),
    st.sampled_from([0, START + 6 * DAY]),
    st.sampled_from([2, 7]),
    st.sampled_from([0, 40]),
)
RATES = {("email", "opened"): 0.5, ("text", "opened"): 0.6, ("email", "clicked"): 0.3}


@contextmanager
def always_in_groups() -> Iterator[None]:
    """Nobody is looked at alone because few are alike."""
    with patch.multiple(looks, FEW=0, ALIKE=1, MANY=1):
        yield


def scenes(
    drawn: list[dict[str, Any]], standing: list[tuple[int, int]], backlog: list[tuple[int, int]]
) -> list[RehearsalScene]:
    """``standing`` are (person, half days before the start) under way in the first, ``backlog`` (person, half
    days after it) brought into the last by hand.
    """
    made = []
    for number, plan in enumerate(drawn):
        tree = tree_of(named(plan))
        first, last = number == 0, number == len(drawn) - 1
        made.append(
            RehearsalScene(
                f"key {number}",
                tree,
                rank=len(drawn) - number,
                number=number + 1,
                before={1: [START - 3 * DAY], 2: [START - 40 * DAY]},
                standing=[
                    (
                        person,
                        Position(START - half * DAY // 2, START - half * DAY // 2 + 60, tree.first, START),
                    )
                    for person, half in standing
                ]
                if first
                else (),
                backlog=tuple(
                    TriggerHit(START + half * DAY // 2, person, "by hand", START) for person, half in backlog
                )
                if last
                else (),
            )
        )
    return made


def told(found: Rehearsal) -> dict[str, Any]:
    return {
        "sent": found.sent,
        "entered": found.entered,
        "outs": found.outs,
        "refused": found.refused,
        "stayed out": found.stayed_out,
        "arms": +found.arms,
        "standing": sorted(found.standing, key=str),
        "diaries": found.diaries,
    }


WHO = st.lists(
    st.tuples(st.integers(0, PEOPLE - 1), st.integers(1, 8)), max_size=5, unique_by=lambda one: one[0]
)


class Together(TestCase):
    maxDiff = 4_000

    def agree(
        self,
        book: HistorySnapshot,
        policy: SendPolicy,
        made: Callable[[], list[RehearsalScene]],
        already: Any,
    ) -> Rehearsal:
        def run(few: int) -> Rehearsal:
            known = SequenceHistory(book, policy)
            return rehearse(made(), known, START, END, rates=RATES, already=already, watched=3, few=few)

        alone, together = run(EVERYBODY), run(0)
        self.assertEqual(told(alone), told(together))
        with always_in_groups():
            self.assertEqual(told(alone), told(run(0)))
        return alone

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.lists(plans(), min_size=1, max_size=3), books(), POLICIES, WHO, WHO, WHO)
    def test_as_each_alone(
        self, drawn: Any, book: Any, policy: Any, standing: Any, backlog: Any, already: Any
    ) -> None:
        sent = [(START + half * DAY // 2, person) for person, half in already]
        self.agree(book, policy, lambda: scenes(drawn, standing, backlog), sent)

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(plans(), books(), POLICIES, WHO, st.integers(0, 40))
    def test_one_look_as_a_look_at_each(
        self, drawn: Any, book: Any, policy: Any, sent: Any, hours: int
    ) -> None:
        """At an instant, as a tick: at whoever stands somewhere at the end of a rehearsal."""
        play = scenes([drawn], [], [])[0]
        known = SequenceHistory(book, policy)
        found = rehearse([play], known, START, END, few=EVERYBODY)
        positions = {person: position for _, person, position in found.standing}
        answers, now = LiveAnswers(SequenceHistory(book, policy), {}), END + hours * 3_600
        answers.sent.fill({person: [START + half * DAY for half in range(count)] for person, count in sent})
        facts = PersonFacts(answers.known, answers.sent.of, lambda person, step, did: person % 2 > 0)
        alone = [
            step(play.tree, position, facts.turn(play.key, person, now), now)
            for person, position in positions.items()
        ]
        with always_in_groups():
            people, stand = list(positions), list(positions.values())
            self.assertEqual(looked_at(play.key, play.tree, answers, facts, people, stand, now), alone)

    def test_who_got_the_goodbye_is_told_apart(self) -> None:
        """A step may also ask which messages somebody got, which is part of where they stand."""
        steps_ = [{"do": "message", "id": "a", "message": 1}, {"do": "stop contact", "id": "b"}]
        tree = tree_of(read_plan({"start": {"on": "hand"}, "steps": steps_}))
        people = People.of(np.arange(1, 9), [START - DAY] * 8)
        answers = LiveAnswers(SequenceHistory(HistorySnapshot(ZONE, "USD", people), SendPolicy()), {})
        facts = PersonFacts(answers.known, answers.sent.of, lambda person, step, did: False)
        stand = [
            Position(START - 100, START - one, "b", START, sent=("a",) if one % 3 else ()) for one in range(8)
        ]
        alone = [step(tree, place, facts.turn("key", one, START), START) for one, place in enumerate(stand)]
        self.assertEqual(sum(len(acts) for _, acts in alone), 5)
        with always_in_groups():
            self.assertEqual(looked_at("key", tree, answers, facts, range(8), stand, START), alone)

    def looked_at_alike(self, plan: dict[str, Any], where: str) -> list[Any]:
        """What a look at thirty people at one step, each due at a second of their own, makes of them: the
        same together and alone. Every second one has ordered.
        """
        tree, people = tree_of(read_plan(plan)), People.of(np.arange(1, 31), [START - DAY] * 30)
        bought = Orders.of(key=np.arange(15), person=np.arange(0, 30, 2), at=[START - 200] * 15)
        book = HistorySnapshot(ZONE, "USD", people, orders=bought)
        answers = LiveAnswers(SequenceHistory(book, SendPolicy()), {})
        facts = PersonFacts(answers.known, answers.sent.of, lambda person, step, did: False)
        stand = [Position(START - 300, START - one, where, START) for one in range(30)]
        alone = [step(tree, place, facts.turn("key", one, START), START) for one, place in enumerate(stand)]
        with always_in_groups():
            together = looked_at("key", tree, answers, facts, range(30), stand, START)
        self.assertEqual(together, alone)
        return alone

    def test_a_lot_parts_people_who_are_due_one_after_the_other(self) -> None:
        arms = [
            {
                "share": 50,
                "steps": [{"do": "tell", "id": "t", "words": "Call them."}, {"do": "wait", "id": "w"}],
            },
            {"share": 50, "steps": [{"do": "wait", "id": "v"}]},
        ]
        found = self.looked_at_alike({"steps": [{"do": "lot", "id": "l", "arms": arms}]}, "l")
        self.assertEqual({position.step for position, _ in found}, {"w", "v"})

    def test_whom_an_order_or_a_rule_stops_does_not_wait(self) -> None:
        rule = {"root": {"lines": [{"about": "orders", "value": 1}]}}
        steps_ = [{"do": "wait", "id": "w"}]
        for more in ({"stops": [{"what": "order"}]}, {"stop_when": rule}):
            with self.subTest(more):
                found = self.looked_at_alike({"steps": steps_} | more, "w")
                self.assertEqual(sum(position.state == LEFT for position, _ in found), 15)

    def test_whoever_waits_already_is_woken(self) -> None:
        """Since they came to the wait, not since they came in; before the beginning as after it."""
        wait = {"do": "wait", "id": "w", "kind": "until event", "happening": {"what": "order"}}
        plan = read_plan(
            {"steps": [wait | {"span": {"amount": 9}}, {"do": "message", "id": "m", "message": 1}]}
        )
        at = [START + DAY, START - 3 * DAY, START - DAY]
        orders = Orders.of(key=np.arange(3), person=np.arange(3), at=at)
        said = Consents.of(person=np.arange(4), at=[START - 9 * DAY] * 4, channel=[0] * 4, state=[1] * 4)
        people = People.of(np.arange(1, 5), [START - 9 * DAY] * 4)
        book = HistorySnapshot(ZONE, "USD", people, orders=orders, consents=said)
        place = Position(START - 4 * DAY, START + 7 * DAY, "w", START, True, START - 2 * DAY)
        stand = [(person, place) for person in range(4)]

        def made() -> list[RehearsalScene]:
            return [RehearsalScene("key", tree_of(plan), crossed=(), standing=stand)]

        sent = {one.person: one.at for one in self.agree(book, SendPolicy(), made, []).sent}
        self.assertEqual(sent, {0: START + DAY, 1: START + 7 * DAY, 2: START, 3: START + 7 * DAY})

    def test_a_wait_of_centuries_is_nobody_else_s(self) -> None:
        """A wait may take 10,000 months. Somebody else's run must not be taken for theirs."""
        plan = read_plan({"steps": [{"do": "wait", "id": "w"}, {"do": "message", "id": "m", "message": 1}]})
        people = People.of(np.arange(1, 7), [START - 9 * DAY] * 6)
        said = Consents.of(person=np.arange(6), at=[START - 9 * DAY] * 6, channel=[0] * 6, state=[1] * 6)
        book = HistorySnapshot(ZONE, "USD", people, consents=said)
        stand = [
            (person, Position(START - DAY, START + due, "w", START, True, START - DAY))
            for person in range(6)
            for due in (DAY, 834 * 365 * DAY)
        ]

        def made() -> list[RehearsalScene]:
            return [RehearsalScene("key", tree_of(plan), crossed=(), standing=stand)]

        self.assertEqual(len(self.agree(book, SendPolicy(), made, []).sent), 6)

    def test_of_two_due_at_one_instant_the_lower_rank_goes_first(self) -> None:
        orders = Orders.of(key=np.arange(9), person=np.arange(9), at=[START + 60] * 9)
        said = Consents.of(person=np.arange(9), at=[START - DAY] * 9, channel=[0] * 9, state=[1] * 9)
        book = HistorySnapshot(
            ZONE, "USD", People.of(np.arange(1, 10), [START - DAY] * 9), orders=orders, consents=said
        )
        plan = {"steps": [{"do": "message", "id": "m", "message": 1}], "patience": 0}
        for ranks in ((1, 2), (2, 1)):
            with self.subTest(ranks):
                made = [RehearsalScene(f"key {rank}", tree_of(read_plan(plan)), rank) for rank in ranks]
                policy = SendPolicy(limits=(FrequencyCap(count=1, days=7),))
                found = self.agree(book, policy, lambda made=made: made, [])  # type: ignore[misc]
                self.assertEqual({one.play for one in found.sent}, {ranks.index(1)})

    def test_every_kind_of_step_is_drawn(self) -> None:
        """A new kind must be among those that are held against each alone."""
        drawn = {"message", "wait", "lot", "fork", *(step["do"] for step in STEPS)}
        self.assertEqual(drawn, set(BY_DO))

    def test_nobody_gets_the_time_of_another(self) -> None:
        """What stands for each one's own instants is no number: a step that reckons with it fails."""
        for own in (ENTERED, ANCHOR, ARRIVED):
            with self.assertRaises(TypeError):
                own + 1
            with self.assertRaises(TypeError):
                min(own, 1)

    def test_what_asks_for_our_doing_walks_alone(self) -> None:
        ours = {"root": {"lines": [{"about": "messages", "value": 1}]}}
        known = SequenceHistory(HistorySnapshot(ZONE, "USD", People.of([], [])), SendPolicy())
        message = [{"do": "message", "id": "m", "message": 1}]
        woken = [{"do": "wait", "id": "w", "kind": "until event", "happening": {"what": "opened"}}]
        fork = [{"do": "fork", "id": "f", "arms": [{"rule": ours}]}]
        for plan in (
            {"only": ours, "steps": message},
            {"stop_when": ours, "steps": message},
            {"stops": [{"what": "clicked"}], "steps": message},
            {"start": {"on": "segment", "rule": ours}, "steps": message},
            {"steps": fork},
            {"steps": woken},
        ):
            with self.subTest(plan):
                self.assertFalse(suits(read_plan(plan), known))
        self.assertTrue(suits(read_plan({"steps": message}), known))
        many = SendPolicy(limits=(FrequencyCap(count=17, days=365),))
        self.assertFalse(suits(read_plan({"steps": message}), SequenceHistory(known.snapshot, many)))


ROWS = st.lists(
    st.tuples(st.integers(0, PEOPLE - 1), instants(-2, DAYS), st.integers(0, 6 * DAY)),
    min_size=2,
    max_size=30,
)
ASKED = (
    Question("present"),
    *(
        Question("happened", what, (EventFilter(what=what),))
        for what in ("order", "visit", "booking", "appointment missed")
    ),
    Question("meets", "rule", (Rule.model_validate({"root": {"lines": [{"about": "orders", "value": 2}]}}),)),
    Question("arm", "lot", ("lot", (30, 70))),
    Question("held_back", 30, (30,)),
    *(Question("refusal", (one, on), (one, on)) for one in (1, 2) for on in ("email", "text", "chat")),
    Question("sent_times"),
)


class AnswersTest(TestCase):
    @settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
    @given(
        books(),
        POLICIES,
        ROWS,
        st.lists(st.tuples(instants(-9, -3), st.integers(0, PEOPLE - 1)), max_size=20),
    )
    def test_the_same_only_where_the_facts_are(self, book: Any, policy: Any, rows: Any, sent: Any) -> None:
        known = SequenceHistory(book, policy)
        answers = Answers(known, {})
        for at, one in sorted(sent):
            answers.sent.add(np.asarray([one]), at)
        facts = PersonFacts(known, answers.sent.of, lambda person, step, did: False)
        person, entered, waited = (np.asarray(column, dtype=np.int64) for column in zip(*rows, strict=True))
        now = entered + waited
        for asked in ASKED:
            given_ = list(
                zip(
                    *(column.tolist() for column in answers.of(asked, "key", person, entered, now)),
                    strict=True,
                )
            )
            told_ = [
                fact_of(facts.turn("key", *row[:2]), asked, row[2])
                for row in zip(person.tolist(), now.tolist(), entered.tolist(), strict=True)
            ]
            if asked.kind == "sent_times" and not policy.limits:
                self.assertEqual(given_, [])
                continue
            meant: dict[Any, Any] = {}
            for answer, fact in zip(given_, told_, strict=True):
                self.assertEqual(meant.setdefault(answer, fact), fact, asked)
                if isinstance(fact, bool):
                    self.assertEqual(answer, (int(fact),), asked)


def fact_of(facts: PersonFacts, asked: Question, entered: int) -> Any:
    if asked.kind == "happened":
        return facts.happened(*asked.of, entered, facts.now)
    if asked.kind == "meets":
        return facts.meets(*asked.of, entered)
    if asked.kind == "sent_times":  # until when each limit speaks against another message
        sent = [at for at in facts.sent_times() if at <= facts.now]
        allowed = next_allowed(sent, facts.limits, facts.now)
        return allowed if allowed > facts.now else 0
    return getattr(facts, asked.kind)(*asked.of)


UNITS = st.sampled_from(["minutes", "hours", "days", "weeks", "months"])
YEARS = st.integers(1_577_836_800, 1_900_000_000)


class ManyWaitsTest(TestCase):
    @settings(max_examples=300, deadline=None)
    @given(st.sampled_from(sorted(available_timezones())), st.integers(0, 400), UNITS, YEARS, st.booleans())
    def test_as_one_after_the_other(
        self, name: str, amount: int, unit: Any, near: int, decides: bool
    ) -> None:
        zone, span = zone_of(name), Span(amount=amount, unit=unit)
        changes = [
            at
            for at in range(near - near % DAY, near + 200 * DAY, DAY)
            if zone.offset(at) != zone.offset(at + DAY)
        ]
        around = [near, *(at + hour * 1_800 + 7 for at in changes for hour in range(50))]
        begun = np.asarray(around, dtype=np.int64)
        self.assertEqual(ManyAfter(span, zone)(begun).tolist(), [after(at, span, zone) for at in around])
        wait = WaitStep(id="w", span=span)
        self.assertEqual(
            ManyWait(wait, zone, decides)(begun).tolist(),
            [wait_until(wait, at, 0, zone, decides) for at in around],
        )
