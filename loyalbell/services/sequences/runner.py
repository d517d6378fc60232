"""The tick of the sequences: who comes in, who is due, and what is done for them, a batch in a
transaction.
"""

from dataclasses import dataclass, field
from datetime import datetime
from functools import partial

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.collecting import without_collecting
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.sequences.engine import woken
from loyalbell.core.sequences.engine_facts import PersonFacts, SequenceHistory
from loyalbell.core.sequences.plan import WaitStep, every_step, read_plan
from loyalbell.core.sequences.plan_tree import Tree, tree_of
from loyalbell.core.sequences.together.answers import LiveAnswers
from loyalbell.core.sequences.triggers import TriggerContext
from loyalbell.core.sequences.walk import UNDER_WAY
from loyalbell.services.application import Application
from loyalbell.services.imports.under_way import is_under_way
from loyalbell.services.sequences import volume_guard
from loyalbell.services.sequences.actions import ActionWriter
from loyalbell.services.sequences.engine_batch import Batch, DayCounts, VolumeGate, numbers_of
from loyalbell.services.sequences.enrolment import crossings, enrol
from loyalbell.services.sequences.places import (
    COLUMNS,
    all_due,
    any_due,
    due_places,
    place_of,
    places_of,
    seconds,
    write,
)
from loyalbell.services.sequences.set_aside import SequenceBroken, of_sequence, set_aside
from loyalbell.services.sequences.shop_policy import around_of, live_plans, send_policy_of, volume_guard_of
from loyalbell.services.sequences.waiting_places import any_may_go_on, let_go_on
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment, SequenceVersion, Shop

BATCH = 2_000
GIVES_WAY_AFTER = 20
"""Places: a few milliseconds."""


@dataclass
class SequenceRunner:
    """Ticks again and again; keeps the ledger made ready while it does not change."""

    application: Application
    _known: SequenceHistory | None = None
    _looked: tuple[int, int] = (-1, -1)
    _trees: dict[int, Tree] = field(default_factory=dict)
    _answers: LiveAnswers | None = None

    def tick(self) -> int:
        """Everything of the sequences that is due now. Returns how many places were moved on."""
        now = self.application.clock.now()
        if not self._anything(now):
            return 0
        with self.application.database.reading() as session:
            may_go_on = any_may_go_on(session)
        if may_go_on:
            with self.application.database.transaction() as session:
                let_go_on(session, now)
        self.application.is_ticking = True
        try:
            return self._move_on(now)
        finally:
            self.application.is_ticking = False

    def _move_on(self, now: datetime) -> int:
        known, around = self._ready(now)
        self._look(known, around, now)
        while True:
            try:
                self._wake(known, now)
                held = self._too_many(known, now)
                break
            except SequenceBroken as broken:
                if not set_aside(self.application, broken):
                    raise
        moved, counts = 0, DayCounts()
        with without_collecting():
            while due := all_due(self.application, now):
                for start in range(0, len(due), BATCH):
                    batch = due[start : start + BATCH]
                    moved += self._batch_or_set_aside(known, now, held, batch, counts)
        self._answers = None
        return moved

    def _batch_or_set_aside(
        self, known: SequenceHistory, now: datetime, held: set[int], due: list[int], counts: DayCounts
    ) -> int:
        """A batch; where one sequence breaks it, that one is set aside and the batch tried again."""
        while True:
            try:
                return self._batch(known, now, held, due, counts)
            except SequenceBroken as broken:
                if not set_aside(self.application, broken):
                    raise

    def due(self) -> bool:
        """Whether somebody's place is due."""
        return any_due(self.application, self.application.clock.now())

    def next_due(self) -> int | None:
        """When the next place falls due, in seconds since 1970."""
        with self.application.database.reading() as session:
            rings = select(schema.Sequence.id).where(schema.Sequence.state == "live")
            found = session.scalar(
                select(func.min(Enrolment.due_at)).where(
                    Enrolment.state == UNDER_WAY,
                    Enrolment.due_at > self.application.clock.now(),
                    Enrolment.sequence_id.in_(rings),
                )
            )
        return seconds(found)

    def _anything(self, now: datetime) -> bool:
        """Looks without taking the book's one writer, so that an idle heartbeat disturbs nobody."""
        with self.application.database.reading() as session:
            shop = session.get(Shop, 1)
            if shop is None or not shop.ringing:
                return False
            live = session.scalar(select(schema.Sequence.id).where(schema.Sequence.state == "live").limit(1))
        if live is None or is_under_way(self.application):
            return False
        state = (self.application.snapshot().version, int(now.timestamp()) // 60)
        if state != self._looked:
            self._looked = state
            return True
        return any_due(self.application, now)

    def _ready(self, now: datetime) -> tuple[SequenceHistory, TriggerContext]:
        snapshot = self.application.snapshot()
        with self.application.database.reading() as session:
            policy = send_policy_of(session, session.get_one(Shop, 1), now)
            around = around_of(session, policy)
            first = session.scalar(select(func.min(Enrolment.entered_at)).where(Enrolment.state == UNDER_WAY))
        at = int(now.timestamp())
        since = min(at, int(first.timestamp()) if first is not None else at) - 86_400
        return SequenceHistory(snapshot, policy, since, at), around

    def _look(self, known: SequenceHistory, around: TriggerContext, now: datetime) -> None:
        with self.application.database.reading() as session:
            live = list(
                session.scalars(
                    select(schema.Sequence.id)
                    .where(schema.Sequence.state == "live")
                    .order_by(schema.Sequence.rank, schema.Sequence.id)
                )
            )
        for sequence_id in live:
            try:
                with of_sequence(sequence_id):
                    self._look_at(sequence_id, known, around, now)
            except SequenceBroken as broken:
                set_aside(self.application, broken)

    def _look_at(
        self, sequence_id: int, known: SequenceHistory, around: TriggerContext, now: datetime
    ) -> None:
        """Who crossed is found before the transaction opens; it only lets them in.

        Where the sequence was changed in between, it is looked at with the next tick.
        """
        with self.application.database.reading() as session:
            sequence = session.get_one(schema.Sequence, sequence_id)
            plan = read_plan(session.get_one(SequenceVersion, sequence.live_version_id).plan)
        seen = _as_looked_at(sequence)
        cross = crossings(sequence, plan, known, around, now)
        with self.application.database.transaction() as session:
            sequence = session.get_one(schema.Sequence, sequence_id)
            if _as_looked_at(sequence) != seen:
                return
            sequence.looked_until = now
            enrol(session, sequence, tree_of(plan), known, cross)

    def _wake(self, known: SequenceHistory, now: datetime) -> None:
        """Those who wait for something that has happened are due at the instant at which it did."""
        at = int(now.timestamp())
        with self.application.database.reading() as session:
            waits = {
                sequence.live_version_id: [
                    step.id
                    for step in every_step(plan.steps)
                    if isinstance(step, WaitStep) and step.kind == "until event"
                ]
                for sequence, plan in live_plans(session)
            }
            asked = [(version, steps) for version, steps in waits.items() if steps]
            rows = [
                row
                for version, steps in asked
                for row in session.execute(
                    select(*COLUMNS).where(
                        Enrolment.version_id == version,
                        Enrolment.step.in_(steps),
                        Enrolment.state == UNDER_WAY,
                        Enrolment.settled,
                        Enrolment.due_at > now,
                    )
                )
            ]
        changed, about = [], PersonFacts(known, lambda person: (), lambda person, step_id, did: False)
        numbers = numbers_of(known, [row[3] for row in rows])
        for row in rows:
            place = place_of(row)
            with of_sequence(place.sequence):
                tree = self._tree(place.version)
                position = place.position
                arrived = position.entered if position.tried is None else position.tried
                about.turn("", numbers[place.person], at)
                after = woken(tree, position, about.first, arrived, at)
                if after.due != position.due:
                    changed.append((place.id, after.due))
        if changed:
            with self.application.database.transaction() as session:
                for at_, due in changed:
                    session.execute(
                        update(Enrolment)
                        .where(Enrolment.id == at_)
                        .values(due_at=datetime.fromtimestamp(due, now.tzinfo))
                    )

    def _answers_of(self, known: SequenceHistory) -> LiveAnswers:
        """Made once a tick."""
        if self._answers is None or self._answers.known is not known:
            self._answers = LiveAnswers(known, {})
        return self._answers

    def _tree(self, version_id: int) -> Tree:
        if version_id not in self._trees:
            with self.application.database.reading() as session:
                self._trees[version_id] = tree_of(
                    read_plan(session.get_one(SequenceVersion, version_id).plan)
                )
        return self._trees[version_id]

    def _too_many(self, known: SequenceHistory, now: datetime) -> set[int]:
        """Sequences of which more is due at once than the guard lets go.

        Counted by a dry run before anything leaves.
        """
        found = set()
        with self.application.database.reading() as session:
            shop = session.get_one(Shop, 1)
            guard = volume_guard_of(CareSettings.load(session))
            due = session.execute(
                select(Enrolment.sequence_id, func.count())
                .where(*due_places(session, now))
                .group_by(Enrolment.sequence_id)
            )
            for sequence_id, count in due:
                sequence = session.get_one(schema.Sequence, sequence_id)
                most = guard.most(
                    volume_guard.normal_of(session, sequence, now, guard, len(known.ids), shop.zone)
                )
                today = volume_guard.sent_today(session, sequence_id, now, shop.zone)
                with of_sequence(sequence_id):
                    far_above = (
                        today + count > most
                        and today + self._would_send(session, known, now, sequence_id) > most
                    )
                if far_above:
                    found.add(sequence_id)
        return found

    def _would_send(self, session: Session, known: SequenceHistory, now: datetime, sequence_id: int) -> int:
        places = [
            place_of(row)
            for row in session.execute(
                select(*COLUMNS).where(*due_places(session, now), Enrolment.sequence_id == sequence_id)
            )
        ]
        batch, sends = Batch(self._tree, session, known, now, places), 0
        for number, place in enumerate(places):
            if number % GIVES_WAY_AFTER == 0:
                self.application.pages.give_way()
            sends += sum(act.kind == "send" for act in batch.step(place)[1])
        return sends

    def _batch(
        self, known: SequenceHistory, now: datetime, too_many: set[int], due: list[int], counts: DayCounts
    ) -> int:
        """Moves on whoever of the enrolments ``due`` is so still. Their number."""
        with self.application.database.transaction() as session:
            shop = session.get_one(Shop, 1)
            places = places_of(session, due, now)
            if not places:
                return 0
            batch = Batch(self._tree, session, known, now, places)
            doing = ActionWriter(session, shop, known, now)
            gate = VolumeGate(session, known, now, shop, too_many, counts.copy())
            moved = batch.moved(places, partial(self._answers_of, known))
            for number, (place, (position, acts)) in enumerate(zip(places, moved, strict=True)):
                if number % GIVES_WAY_AFTER == 0:
                    self.application.pages.give_way()
                with of_sequence(place.sequence):
                    was_due, place.position = place.position.due, position
                    for act in acts:
                        held = gate.held(place.sequence) if act.kind == "send" else None
                        doing.do(self._tree(place.version), place, act, held, was_due)
            doing.write()
            write(session, places, now)
        counts.keep(gate.counts)  # only once the batch is in the book
        return len(places)


def skip_due(
    application: Application,
    session: Session,
    snapshot: HistorySnapshot,
    sequence: schema.Sequence,
    now: datetime,
) -> None:
    """Moves those who are overdue in one sequence past the messages they would have got, each refusal written
    down.
    """
    ringing, version = SequenceRunner(application), session.get_one(SequenceVersion, sequence.live_version_id)
    plan = read_plan(version.plan).model_copy(update={"patience": -1})
    ringing._trees[version.id] = tree_of(plan)
    shop = session.get_one(Shop, 1)
    known = SequenceHistory(snapshot, send_policy_of(session, shop, now), until=int(now.timestamp()))
    overdue = select(*COLUMNS).where(
        Enrolment.sequence_id == sequence.id, Enrolment.state == UNDER_WAY, Enrolment.due_at <= now
    )
    places = [place_of(row) for row in session.execute(overdue)]
    batch, doing = Batch(ringing._tree, session, known, now, places), ActionWriter(session, shop, known, now)
    for place in places:
        was_due = place.position.due
        place.position, acts = batch.step(place)
        for act in acts:
            doing.do(ringing._tree(place.version), place, act, None, was_due)
    doing.write()
    write(session, places, now)


def _as_looked_at(sequence: schema.Sequence) -> tuple[object, ...]:
    """What decides who has crossed its line."""
    return sequence.state, sequence.live_version_id, sequence.looked_until, sequence.rings_since
