"""One random small world: a shop, three people, a sequence or two, a network with moods, and a person who
holds, releases, pauses, silences and decides at any hour.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from random import Random
from typing import Any

from sqlalchemy import delete, select, update

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.customers.reachability import suppress
from loyalbell.services.delivery import after_stop, circuits
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing, publishing, volume_guard
from loyalbell.services.sequences.commands import keep
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.storage import schema
from loyalbell.storage.schema import (
    ChannelCircuit,
    ConsentEntry,
    Delivery,
    Enrolment,
    HeldBatch,
    Order,
    Person,
    Setting,
    Suppression,
)
from tests.services.sequences.test_runner import SequenceCase
from tests.worlds.oracle import HandOver, PersonTold, StepTold, WorldTold

ZONES = ("America/New_York", "Europe/London", "Asia/Tokyo", "Pacific/Auckland")
BEGINS = (
    datetime(2026, 5, 12, 13, 40, tzinfo=UTC),
    datetime(2026, 3, 6, 15, 0, tzinfo=UTC),
    datetime(2026, 10, 30, 20, 0, tzinfo=UTC),
)
"""An ordinary week, and those in which daylight-saving time begins and ends in New York (IANA)."""
STEPS_OF_TIME = (7, 25, 60, 60, 60, 180, 180, 420, 780, 2_880)
"""Minutes by which the clock goes on; the long ones stand for a program that was off."""
TICKS = 34
Step = dict[str, Any]
EMPTIED = (
    *(Delivery, Enrolment, schema.SequenceVersion, schema.Sequence, Order),
    *(ConsentEntry, Suppression, HeldBatch, ChannelCircuit, Person),
)


class Moody(Sender):
    """A network that takes, refuses for now, speaks of us, limits, or breaks off; it can never be asked."""

    def __init__(self, world: "World") -> None:
        self.world = world

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        return [self._one(message) for message in batch]

    def _one(self, message: Outgoing) -> Outcome:
        said = self.world.rng.choices(("accepted", "later", "ours", "limit", "unsure"), (70, 9, 7, 5, 9))[0]
        self.world.was_handed(message.delivery_id, said)
        return {
            "accepted": Outcome(message.delivery_id, "accepted", "250 OK"),
            "later": Outcome(message.delivery_id, "try later", "450 4.2.1 busy"),
            "ours": Outcome(message.delivery_id, "try later", "530 5.7.0 sign in", True),
            "limit": Outcome(message.delivery_id, "try later", "429 slow down", True, True, 60),
            "unsure": Outcome(message.delivery_id, "unsure", "connection lost"),
        }[said]

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return None


@dataclass
class World:
    """Lives on the book of a test case, which it empties first."""

    case: SequenceCase
    seed: int

    def __post_init__(self) -> None:
        self.rng = Random(self.seed)
        self.application, self.clock = self.case.application, self.case.clock
        self._empty()
        self.clock.instant = self.rng.choice(BEGINS)
        self.told = self._rules()
        self.ids = [self._person(number) for number in range(3)]
        self.sequences = [self._sequence(number) for number in range(self.rng.choice((1, 1, 2)))]

    def live(self) -> WorldTold:
        """Lets it happen. Returns what there is to judge."""
        sender = Moody(self)
        acts: list[Callable[[], None]] = [
            *[self._order] * 9,
            *(self._consent, self._close, self._suppress),
            *(self._pause, self._resume, self._resume),
            *(self._silence, self._speak, self._speak),
            *[self._release] * 4,
            *(self._decide, self._again, self._try_now),
        ]
        for _ in range(TICKS):
            self.clock.move_on(timedelta(minutes=self.rng.choice(STEPS_OF_TIME)))
            for _ in range(self.rng.choice((0, 1, 1, 2))):
                self.rng.choice(acts)()
            tick(self.application, sender)
        return self.told

    # what there is

    def _empty(self) -> None:
        with self.application.database.transaction() as session:
            for table in EMPTIED:
                session.execute(delete(table))
            session.execute(delete(Setting).where(Setting.name == "skipped seen"))

    def _rules(self) -> WorldTold:
        rng = self.rng
        quiet = rng.choice((("", ""), ("21:00", "08:00"), ("13:00", "15:00")))
        caps = rng.choice(([], [(1, 1)], [(2, 7), (1, 1)], [(1, 3)]))
        today = self.clock.now().date()
        closed = {today + timedelta(days=ahead) for ahead in range(12) if rng.random() < 0.1}
        self.case.care(
            limits=[FrequencyCap(count=count, days=days) for count, days in caps],
            quiet_begins=quiet[0],
            quiet_ends=quiet[1],
            closed=sorted(closed),
            guard_floor=rng.choice((1, 1_000, 1_000)),
            guard_factor=1.0,
            newcomer_percent=0.01,
            silent=[],
        )
        return WorldTold(quiet, closed, list(caps), {}, {}, {})

    def _person(self, number: int) -> int:
        zone = self.rng.choice(ZONES)
        soon: date = (self.clock.now() + timedelta(days=self.rng.randrange(1, 9))).date()
        person = self.case.add_person(
            f"p{number}@example.com",
            consent="never asked",
            zone=None if zone == ZONES[0] else zone,
            birthday_month=soon.month,
            birthday_day=soon.day,
        )
        self.told.people[person] = PersonTold(zone, birthday=(soon.month, soon.day))
        self._agree(person, "agreed")
        return person

    def _sequence(self, number: int) -> int:
        rng = self.rng
        is_birthday = rng.random() < 0.25
        ends = rng.choice((None, 0, 2, 3))
        steps, told = self._steps(number, 1 if is_birthday else rng.choice((1, 2, 3)), is_birthday)
        start: dict[str, Any] = {"on": "event", "happening": {"what": "order"}}
        if is_birthday:
            start = {"on": "date", "which": "birthday", "days": 0, "at": "09:00"}
        rule = {"root": {"lines": [{"about": "orders", "value": ends}]}}
        plan = {
            "start": start,
            "again": {"kind": "each"},
            "patience": rng.choice((0, 1, 3)),
            "stops": [{"what": "order"}] if ends == 0 else [],
            "stop_when": rule if ends else None,
            "steps": steps,
        }
        made = keep(self.application, None, f"Sequence {number}", read_plan(plan), "Ida")
        checked = publishing.must_fix
        publishing.must_fix = lambda found: False  # type: ignore[assignment]
        try:
            publishing.publish(self.application, made, publishing.Choices(), "Ida", normal=0)
        finally:
            publishing.must_fix = checked
        self.told.steps |= {(made, step): one for step, one in told.items()}
        self.told.ends_with_orders[made] = ends
        if is_birthday:
            self.told.birthdays.add(made)
        return made

    def _steps(
        self, number: int, count: int, at_once: bool
    ) -> tuple[list[dict[str, Any]], dict[str, StepTold]]:
        rng, steps, told = self.rng, list[Step](), dict[str, StepTold]()
        before: str | None = None
        for at in range(count):
            step, one = f"m{number}{at}", StepTold(after=before)
            if before is not None:
                amount, unit = rng.choice(((1, "days"), (2, "days"), (3, "hours"), (0, "hours")))
                steps.append({"do": "wait", "id": f"w{number}{at}", "span": {"amount": amount, "unit": unit}})
                one.wait_days, one.wait_hours = (amount, 0) if unit == "days" else (0, amount)
            release = rng.choice(
                (
                    {},
                    {"kind": "window", "begins": "09:00", "ends": "12:00"},
                    {"kind": "window", "weekdays": [1, 3, 4], "begins": "10:00", "ends": "20:00"},
                    {"kind": "exact", "begins": "10:15"},
                )
            )
            release = {} if at_once else release
            one.kind = str(release.get("kind", "at once"))
            one.weekdays = tuple(release.get("weekdays", one.weekdays))  # type: ignore[arg-type]
            one.begins, one.ends = str(release.get("begins", "10:00")), str(release.get("ends", "18:00"))
            steps.append({"do": "message", "id": step, "message": 1, "release": release})
            told[step], before = one, step
        return steps, told

    # what happens

    def was_handed(self, delivery_id: int, said: str) -> None:
        with self.application.database.reading() as session:
            row = session.get_one(Delivery, delivery_id)
            run = session.scalars(
                select(Enrolment).where(
                    Enrolment.sequence_id == row.origin_id,
                    Enrolment.person_id == row.person_id,
                    Enrolment.key == row.occurrence,
                )
            ).one()
        self.told.handed.append(
            HandOver(
                self.clock.now(), row.person_id, row.origin_id, row.step, row.occurrence, run.entered_at, said
            )
        )

    def _agree(self, person: int, state: str) -> None:
        now = self.clock.now()
        with self.application.database.transaction() as session:
            session.add(ConsentEntry(person_id=person, channel="email", state=state, at=now, source="test"))
        self.told.people[person].consent.append((now, state))

    def _order(self) -> None:
        person = self.rng.choice(self.ids)
        self.case.add_order(person, 0)
        self.told.people[person].orders.append(self.clock.now())

    def _consent(self) -> None:
        self._agree(self.rng.choice(self.ids), self.rng.choice(("refused", "agreed", "agreed")))

    def _close(self) -> None:
        person = self.rng.choice(self.ids)
        if self.rng.random() < 0.3 and self.told.people[person].closed is None:
            with self.application.database.transaction() as session:
                session.execute(update(Person).where(Person.id == person).values(closed_at=self.clock.now()))
            self.told.people[person].closed = self.clock.now()

    def _suppress(self) -> None:
        person = self.rng.choice(self.ids)
        if self.rng.random() < 0.3:
            suppress(self.application, person, "email", "Ida")
            self.told.people[person].suppressed.append((self.clock.now(), None))

    def _pause(self) -> None:
        made = self.rng.choice(self.sequences)
        try:
            pausing.pause(self.application, made, "Ida")
        except SequenceProblem:
            return
        self.told.paused.setdefault(made, []).append((self.clock.now(), None))

    def _resume(self) -> None:
        made = self.rng.choice(self.sequences)
        try:
            pausing.resume(self.application, made, self.rng.random() < 0.6, self.rng.random() < 0.5, "Ida")
        except SequenceProblem:
            return
        began, _ = self.told.paused[made].pop()
        self.told.paused[made].append((began, self.clock.now()))

    def _silence(self) -> None:
        if not self.told.silent or self.told.silent[-1][1] is not None:
            self.case.care(silent=["email"])
            self.told.silent.append((self.clock.now(), None))

    def _speak(self) -> None:
        if self.told.silent and self.told.silent[-1][1] is None:
            self.case.care(silent=[])
            self.told.silent[-1] = (self.told.silent[-1][0], self.clock.now())

    def _release(self) -> None:
        with self.application.database.reading() as session:
            held = session.scalars(select(HeldBatch.id).where(HeldBatch.state == "held")).all()
        if held:
            batch, some = self.rng.choice(held), self.rng.choice((None, None, 1, 0))
            volume_guard.decide(self.application, batch, some, "Ida")

    def _decide(self) -> None:
        made, again = self.rng.choice(self.sequences), self.rng.random() < 0.5
        if after_stop.decide_unsure(self.application, made, again, "Ida", "sequence") and again:
            self.told.sent_again.append((self.clock.now(), made))

    def _again(self) -> None:
        after_stop.send_failed_again(self.application, "sequence", self.rng.choice(self.sequences), "Ida")

    def _try_now(self) -> None:
        circuits.try_now(self.application, "email", "Ida")
