"""A last look at a sequence's message before it leaves: the person may have left, or come back, since it was
planned.
"""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.event_rows import EventRows, event_rows
from loyalbell.core.sequences.plan import EventFilter, Plan, read_plan
from loyalbell.services.application import Application
from loyalbell.services.segments.queries import saved_rules
from loyalbell.storage.schema import Delivery, Enrolment, SequenceVersion

GONE = ("left", "taken out")


def exited_since(
    application: Application,
    session: Session,
    snapshot: HistorySnapshot,
    deliveries: Sequence[Delivery],
    now: int,
) -> dict[int, str]:
    """By delivery id why it must not go.

    Its person is out of the sequence, or what ends it for them holds by now.
    """
    mine = [delivery for delivery in deliveries if delivery.origin_kind == SEQUENCE]
    if not mine:
        return {}
    enrolments = _enrolments(session, mine)
    stops = _Stops(snapshot, list(enrolments.values()), now)
    plans: dict[int, Plan] = {}
    rules = _Rules(session, application, snapshot, now)
    found: dict[int, str] = {}
    for delivery in mine:
        way = enrolments.get((delivery.origin_id, delivery.person_id, delivery.occurrence))
        if way is None or way.state in GONE:
            found[delivery.id] = "left"
            continue
        if way.version_id is not None and way.version_id not in plans:
            plans[way.version_id] = read_plan(session.get_one(SequenceVersion, way.version_id).plan)
        if way.version_id is None:
            continue
        plan = plans[way.version_id]
        if stops.end(plan, way) or rules.end(plan, way):
            found[delivery.id] = "left"
    return found


def left_by_now(session: Session, deliveries: Sequence[Delivery]) -> dict[int, str]:
    """By delivery id that its person has left the sequence, or was taken out of it."""
    mine = [delivery for delivery in deliveries if delivery.origin_kind == SEQUENCE]
    enrolments = _enrolments(session, mine)
    ways = ((one.id, enrolments.get((one.origin_id, one.person_id, one.occurrence))) for one in mine)
    return {delivery_id: "left" for delivery_id, way in ways if way is None or way.state in GONE}


def _enrolments(session: Session, deliveries: Sequence[Delivery]) -> dict[tuple[int, int, str], Enrolment]:
    """The runs of a batch, by sequence, person and key."""
    query = select(Enrolment).where(
        Enrolment.person_id.in_({delivery.person_id for delivery in deliveries}),
        Enrolment.sequence_id.in_({delivery.origin_id for delivery in deliveries}),
    )
    return {(one.sequence_id, one.person_id, one.key): one for one in session.scalars(query)}


class _Rules:
    """The exit condition of a plan, and the condition it keeps to, asked of single people now."""

    def __init__(
        self, session: Session, application: Application, snapshot: HistorySnapshot, now: int
    ) -> None:
        self.session, self.application, self.snapshot = session, application, snapshot
        self.as_of = datetime.fromtimestamp(now, UTC)
        self.segments: Mapping[int, Rule] | None = None

    def end(self, plan: Plan, way: Enrolment) -> bool:
        """Whether they meet what ends it, or no longer meet what it keeps to."""
        if plan.exit_condition is not None and self._meets(plan.exit_condition, way):
            return True
        return plan.keep_to_it and plan.only is not None and not self._meets(plan.only, way)

    def _meets(self, rule: Rule, way: Enrolment) -> bool:
        if self.segments is None:
            self.segments = saved_rules(self.session)
        said, segments = rule.model_dump_json(), self.segments
        entered = int(way.entered_at.timestamp()) if "since entering" in said else None

        def work() -> Mask:
            return evaluate(rule, self.snapshot, self.as_of, segments, entered)

        key = (said, self.as_of, entered, repr(segments))
        met = self.application.cache.of_version("exit rules", self.snapshot.version, key, work, 40)
        number = int(self.snapshot.people.ids.searchsorted(way.person_id))
        return bool(met[number])


class _Stops:
    """The events that end a run: each kind is looked up once for a whole batch, and only of its people."""

    def __init__(self, snapshot: HistorySnapshot, ways: Sequence[Enrolment], now: int) -> None:
        self.snapshot, self.now = snapshot, now
        self.since = min((int(way.entered_at.timestamp()) for way in ways), default=now)
        self.numbers = snapshot.people.ids.searchsorted([way.person_id for way in ways])
        self.rows: dict[str, EventRows] = {}

    def end(self, plan: Plan, way: Enrolment) -> bool:
        """Whether one has happened to them since they came in, and stands."""
        entered = int(way.entered_at.timestamp())
        number = int(self.snapshot.people.ids.searchsorted(way.person_id))
        for stop in plan.exit_events:
            rows = self._rows(stop)
            if bool(((rows.person == number) & (rows.at > entered) & (rows.until > self.now)).any()):
                return True
        return False

    def _rows(self, stop: EventFilter) -> EventRows:
        key = stop.model_dump_json()
        if key not in self.rows:
            every = event_rows(stop, self.snapshot, self.since, self.now)
            self.rows[key] = every.taken(np.isin(every.person, self.numbers))
        return self.rows[key]
