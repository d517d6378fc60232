"""When messages may leave, asked of the pure rule (``core/policy/timing.py``) at every attempt."""

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.send_windows import AT_ONCE, SendWindow, opens
from loyalbell.core.clock.zones import Zone, zone_of
from loyalbell.core.policy.delivery_state import LEFT_US, PLANNED, WITHHELD
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.core.policy.send_policy import REMEMBERED_DAYS
from loyalbell.core.policy.timing import Attempt, when
from loyalbell.core.sequences.plan import MessageStep, Plan, every_step, read_plan
from loyalbell.core.sequences.starts import end_of_its_day
from loyalbell.services.application import Application
from loyalbell.services.delivery.outbox import become
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.settings.quiet_hours import quiet_of
from loyalbell.storage.schema import (
    Delivery,
    Enrolment,
    Message,
    MessageVersion,
    Person,
    SequenceVersion,
    Shop,
)

PATIENCE_DAYS = 3
"""For how many days a limit may put a campaign's message off."""
MANY = 5_000
REMEMBERED = timedelta(days=REMEMBERED_DAYS)


def allowed_now(
    session: Session, shop: Shop, deliveries: Sequence[Delivery], now: datetime
) -> list[Delivery]:
    """Those that may leave at this instant, asked at every attempt.

    The others are put off to the first moment that fits, or withheld with their cause. What is written to one
    address for its own sake (an answer, a proof, a confirmation) goes when it is due. Campaigns give way to
    sequences.
    """
    in_turn = sorted(deliveries, key=lambda delivery: delivery.origin_kind == CAMPAIGN)
    asked = [one for one in in_turn if one.origin_kind in (CAMPAIGN, SEQUENCE)]
    if not asked:
        return list(deliveries)
    care, second = CareSettings.load(session), int(now.timestamp())
    quiet = quiet_of(care, shop, (now.year, now.year + 1))
    service = _service(session, {one.message_version_id for one in asked})
    zones = _zones(session, {one.person_id for one in asked}, shop)
    of_steps = _of_steps(session, asked)
    left, planned = _sent(session, list(zones), {one.id for one in asked}, now)
    stay = set[int]()
    for delivery in asked:
        of_step, zone = of_steps.get(delivery.id, OfStep()), zones[delivery.person_id]
        times = left.setdefault(delivery.person_id, [])
        gives_way = planned.get(delivery.person_id, []) if delivery.origin_kind == CAMPAIGN else []
        attempt = of_step.attempt(
            delivery, zone, delivery.message_version_id not in service, sorted([*times, *gives_way])
        )
        decision = when(attempt, quiet, care.limits, second)
        if decision.kind == "send":
            if attempt.marketing:
                times.append(second)
            continue
        stay.add(delivery.id)
        if decision.kind == "postpone":
            if decision.cause == "contact limit":
                delivery.first_due_at = delivery.first_due_at or delivery.due_at
            delivery.due_at = datetime.fromtimestamp(decision.until, UTC)
        else:
            become(delivery, WITHHELD, cause=decision.cause)
    return [one for one in deliveries if one.id not in stay]


def _zones(session: Session, people: set[int], shop: Shop) -> dict[int, Zone]:
    """The zone of each person: their own where one is on file, else the shop's."""
    rows = session.execute(select(Person.id, Person.zone).where(Person.id.in_(people)))
    return {person_id: zone_of(zone or shop.zone) for person_id, zone in rows}


def patience_of(session: Session, deliveries: Sequence[Delivery]) -> dict[int, int]:
    """By delivery for how many days it may be put off: its plan's patience; at least a day."""
    of_steps = _of_steps(session, deliveries)
    return {delivery.id: max(of_steps.get(delivery.id, OfStep()).patience, 1) for delivery in deliveries}


def ends_of_their_day(session: Session, shop: Shop, deliveries: Sequence[Delivery]) -> dict[int, datetime]:
    """By delivery when the day is over that its run is about; none for runs that no date began."""
    of_steps = _of_steps(session, deliveries)
    zones = _zones(session, {delivery.person_id for delivery in deliveries if delivery.id in of_steps}, shop)
    people = {delivery.id: delivery.person_id for delivery in deliveries}
    ends = {key: of_step.end_of_day(zones[people[key]]) for key, of_step in of_steps.items()}
    return {key: datetime.fromtimestamp(end, UTC) for key, end in ends.items() if end is not None}


class OfStep(NamedTuple):
    """What a delivery's step and plan say of its time. ``anchor``: the instant that brought the person in."""

    window: SendWindow = AT_ONCE
    patience: int = PATIENCE_DAYS
    plan: Plan | None = None
    anchor: int = 0

    def attempt(self, delivery: Delivery, zone: Zone, marketing: bool, sent: list[int]) -> Attempt:
        first = delivery.first_due_at
        return Attempt(
            due=int(delivery.due_at.timestamp()),
            window=self.window,
            patience=self.patience,
            marketing=marketing,
            zone=zone,
            sent=sent,
            first_due=int(first.timestamp()) if first else None,
            not_after=self.end_of_day(zone),
        )

    def end_of_day(self, zone: Zone) -> int | None:
        """See ``end_of_its_day``."""
        return end_of_its_day(self.plan.start, self.anchor, zone) if self.plan else None


def _of_steps(session: Session, deliveries: Sequence[Delivery]) -> dict[int, OfStep]:
    """By delivery what its step says, in the version that its person's run follows."""
    mine = [one for one in deliveries if one.origin_kind == SEQUENCE]
    if not mine:
        return {}
    rows = session.execute(
        select(
            Enrolment.sequence_id,
            Enrolment.person_id,
            Enrolment.key,
            Enrolment.version_id,
            Enrolment.anchor_at,
        ).where(
            Enrolment.person_id.in_({one.person_id for one in mine}),
            Enrolment.sequence_id.in_({one.origin_id for one in mine}),
        )
    )
    runs = {(sequence, person, key): (version, anchor) for sequence, person, key, version, anchor in rows}
    plans: dict[int, Plan] = {}
    found = {}
    for delivery in mine:
        version, anchor = runs.get(
            (delivery.origin_id, delivery.person_id, delivery.occurrence), (None, delivery.due_at)
        )
        if version is None:
            continue
        if version not in plans:
            plans[version] = read_plan(session.get_one(SequenceVersion, version).plan)
        plan = plans[version]
        step = {step.id: step for step in every_step(plan.steps)}.get(delivery.step)
        window = step.release if isinstance(step, MessageStep) else AT_ONCE
        found[delivery.id] = OfStep(window, plan.patience, plan, int(anchor.timestamp()))
    return found


def _service(session: Session, versions: set[int]) -> set[int]:
    query = (
        select(MessageVersion.id)
        .join(Message)
        .where(MessageVersion.id.in_(versions), Message.purpose == "service")
    )
    return set(session.scalars(query))


Times = dict[int, list[int]]
"""Instants by person id, ascending."""


def _sent(session: Session, people: list[int], asked: set[int], now: datetime) -> tuple[Times, Times]:
    """When marketing messages left for each person.

    And those that sequences are about to send besides those asked about, to which campaigns give way.
    """
    at = func.coalesce(Delivery.sent_at, Delivery.handed_at, Delivery.due_at)
    query = (
        select(Delivery.id, Delivery.person_id, Delivery.state, at)
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(
            Delivery.person_id.in_(people),
            Delivery.state.in_(LEFT_US) | ((Delivery.state == PLANNED) & (Delivery.origin_kind == SEQUENCE)),
            at > now - REMEMBERED,
            Message.purpose == "marketing",
        )
        .order_by(at)
    )
    left: Times = {}
    planned: Times = {}
    for delivery_id, person, state, instant in session.execute(query):
        second = min(int(instant.timestamp()), int(now.timestamp()))
        if state != PLANNED:
            left.setdefault(person, []).append(second)
        elif delivery_id not in asked:
            planned.setdefault(person, []).append(second)
    return left, planned


def in_quiet_hours(session: Session, shop: Shop, person_ids: Sequence[int], now: datetime) -> int:
    """How many of them would have to wait for their morning if something were sent now."""
    care = CareSettings.load(session)
    quiet = quiet_of(care, shop, (now.year, now.year + 1))
    zones: Counter[str] = Counter()
    for start in range(0, len(person_ids), MANY):
        some = person_ids[start : start + MANY]
        query = select(Person.zone, func.count()).where(Person.id.in_(some)).group_by(Person.zone)
        for zone, count in session.execute(query):
            zones[zone or shop.zone] += count
    at = int(now.timestamp())
    return sum(count for zone, count in zones.items() if opens(at, AT_ONCE, quiet, zone_of(zone)) != at)


def would_wait(application: Application, person_ids: Sequence[int], at: datetime) -> int:
    """How many of them would have to wait for their morning if something were sent at an instant."""
    with application.database.reading() as session:
        return in_quiet_hours(session, session.get_one(Shop, 1), person_ids, at)
