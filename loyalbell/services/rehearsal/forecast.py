"""What is expected of the coming weeks: all that rings, from where everybody stands today, over expected
returns.
"""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.clock.zones import zone_of
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.delivery_state import PLANNED
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.rhythm.expected_orders import with_expected_orders
from loyalbell.core.rhythm.return_curve import buying_days, gaps, repeat_curve
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Rehearsal, RehearsalScene
from loyalbell.core.sequences.simulated_history import Rates
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerContext
from loyalbell.core.sequences.walk import ON_ITS_WAY, UNDER_WAY, Position
from loyalbell.services.application import Application, Progress
from loyalbell.services.campaigns.audience import audience, plan_of
from loyalbell.services.rehearsal.rehearsals import WATCHED, Rehearsed, made_of, reactions, really_sent
from loyalbell.services.rhythm.queries import shop_gap
from loyalbell.services.sequences.places import COLUMNS, place_of, seconds
from loyalbell.services.sequences.shop_policy import around_of, live_plans, send_policy_of
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery, Enrolment, Message, Shop

WEEKS, SEED = 6, 20


@dataclass(frozen=True)
class Coming:
    """``days``: by local day how many messages of which (sequence, channel) are expected."""

    days: dict[int, Counter[tuple[int, str]]]


def coming(application: Application, wait: bool = False) -> Coming | None:
    """Worked out once a day in the background; ``None`` while it is."""
    with application.database.reading() as session:
        live = tuple(one.live_version_id for one, _ in live_plans(session))
    if not live:
        return Coming({})
    key = (application.clock.now().date(), live)
    return application.background.get(
        "coming",
        key,
        lambda: application.work_out(look_ahead, beforehand=not wait),
        Coming({}),
        most=4,
        wait=wait,
    )


def rehearse_coming(
    application: Application, plan: Plan, sequence_id: int = 0, wait: bool = False
) -> Rehearsed | None:
    """This plan in the coming weeks, in the place of what is live of it, beside all that rings and what is
    scheduled.

    Worked out in the background, once a day for each plan; ``None`` while it is.
    """
    with application.database.reading() as session:
        live = tuple(one.live_version_id for one, _ in live_plans(session))
    key = (application.clock.now().date(), live, sequence_id, plan.model_dump_json())

    def work() -> Rehearsed | None:
        return application.work_out(_with_draft, plan, sequence_id)

    return application.background.get("coming with a draft", key, work, None, most=6, wait=wait)


def look_ahead(application: Application, progress: Progress = lambda share: None) -> Coming:
    """Plays all that rings for ``WEEKS`` weeks from now. Raises ``RuleProblem``."""
    scene = _scene(application)
    found = _play(scene, scene.live, 0, progress)
    days: dict[int, Counter[tuple[int, str]]] = {}
    for sent in found.sent:
        days.setdefault(scene.zone_day(sent.at), Counter())[(scene.live[sent.play][0].id, sent.channel)] += 1
    return Coming(days)


def _with_draft(application: Application, plan: Plan, sequence_id: int, progress: Progress) -> Rehearsed:
    scene = _scene(application)
    others = [(one, live) for one, live in scene.live if one.id != sequence_id]
    with application.database.reading() as session:
        own = session.get(schema.Sequence, sequence_id) or schema.Sequence(id=0, key="draft", rank=10_000)
    found = _play(scene, [(own, plan), *others], WATCHED, progress)
    return made_of(application, found, scene.snapshot, 0, scene.rates, 7 * WEEKS, len(others))


@dataclass(frozen=True)
class _Scene:
    """Today, and what is expected of it. ``before`` and ``standing`` are by sequence id."""

    snapshot: HistorySnapshot
    known: SequenceHistory
    span: tuple[int, int]
    around: TriggerContext
    rates: Rates
    live: list[tuple[schema.Sequence, Plan]]
    standing: dict[int, list[tuple[int, Position]]]
    before: dict[int, dict[int, list[int]]]
    already: list[tuple[int, int]]

    def zone_day(self, at: int) -> int:
        return zone_of(self.snapshot.zone).day(at)


def _scene(application: Application) -> _Scene:
    today, now = application.snapshot(), application.clock.now()
    at, end = int(now.timestamp()), int((now + timedelta(weeks=WEEKS)).timestamp())
    curve = repeat_curve(*gaps(buying_days(today, at), zone_of(today.zone).day(at)))
    snapshot = with_expected_orders(today, at, 7 * WEEKS, shop_gap(application, today, now), curve, SEED)
    with application.database.reading() as session:
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        known = SequenceHistory(snapshot, policy, at - 800 * 86_400, end)
        numbers = {person: number for number, person in enumerate(known.ids)}
        already = [(when, numbers[who]) for when, who in really_sent(session, now, []) if who in numbers]
        scene = _Scene(
            snapshot,
            known,
            (at, end),
            around_of(session, policy),
            reactions(session, now),
            live_plans(session),
            standing_at(session, numbers, at),
            came_before(session, numbers),
            already,
        )
    scene.already.extend(_scheduled(application, numbers, end))
    scene.already.sort()
    return scene


def standing_at(session: Session, numbers: dict[int, int], now: int) -> dict[int, list[tuple[int, Position]]]:
    """Where everybody stands, by sequence id as (person number, position).

    Whose message is planned is asked again when it is due; whose message a person must let go, or of which it
    is not known whether it left, is taken to get it now.
    """
    found: dict[int, list[tuple[int, Position]]] = {}
    planned = _planned(session)
    for row in session.execute(select(*COLUMNS).where(Enrolment.state == UNDER_WAY).order_by(Enrolment.id)):
        place = place_of(row)
        if place.person in numbers:
            position = place.position
            if position.awaits == ON_ITS_WAY:
                key = (place.sequence, place.person, place.key, position.step)
                position = _waiting_for(position, planned.get(key), now)
            found.setdefault(place.sequence, []).append((numbers[place.person], position))
    return found


def _waiting_for(position: Position, planned: tuple[datetime, datetime | None] | None, now: int) -> Position:
    if planned is None:
        return position._replace(due=now)
    due, first = planned
    return position._replace(due=int(due.timestamp()), settled=True, tried=seconds(first), awaits="")


def _planned(session: Session) -> dict[tuple[int, int, str, str | None], tuple[datetime, datetime | None]]:
    """By sequence, person, key and step when a planned message is due, and when it was at first."""
    query = select(Delivery).where(Delivery.state == PLANNED, Delivery.origin_kind == SEQUENCE)
    return {
        (one.origin_id, one.person_id, one.occurrence, one.step): (one.due_at, one.first_due_at)
        for one in session.scalars(query)
    }


def came_before(session: Session, numbers: dict[int, int]) -> dict[int, dict[int, list[int]]]:
    """By sequence id and person number the instants at which somebody came in, ascending."""
    found: dict[int, dict[int, list[int]]] = {}
    came = select(Enrolment.sequence_id, Enrolment.person_id, Enrolment.entered_at).where(
        Enrolment.state != "kept out"
    )
    for sequence_id, person, entered in session.execute(came.order_by(Enrolment.entered_at)):
        if person in numbers:
            times = found.setdefault(sequence_id, {}).setdefault(numbers[person], [])
            times.append(int(entered.timestamp()))
    return found


def _scheduled(application: Application, numbers: dict[int, int], end: int) -> list[tuple[int, int]]:
    """(instant, person number) of what campaigns that wait for their time would send to those they reach
    today.
    """
    query = (
        select(Campaign)
        .join(Message, Message.id == Campaign.message_id)
        .where(Campaign.goes_out_at > application.clock.now(), Message.purpose == "marketing")
    )
    with application.database.reading() as session:
        waiting = list(session.scalars(query.where(Campaign.state.in_(("scheduled", "sending")))))
    found = []
    for campaign in waiting:
        reached = [numbers[one] for one in audience(application, campaign).reached if one in numbers]
        for at in _rounds_ahead(application, campaign):
            if at.timestamp() > end:
                break
            found += [(int(at.timestamp()), person) for person in reached]
    return found


def _rounds_ahead(application: Application, campaign: Campaign) -> Iterator[datetime]:
    """The coming round where it has been moved to, then the later ones as they are planned."""
    if campaign.goes_out_at is None:
        return
    yield campaign.goes_out_at
    plan, after = plan_of(campaign), campaign.round_at or campaign.goes_out_at
    if plan.recurs:
        yield from plan.rounds_after(after, application.the_shop().zone)


def _play(
    scene: _Scene, live: list[tuple[schema.Sequence, Plan]], watched: int, progress: Progress
) -> Rehearsal:
    plays = []
    for one, plan in live:
        tree = tree_of(plan)
        standing = [(who, at) for who, at in scene.standing.get(one.id, ()) if at.step in tree.nodes]
        plays.append(
            RehearsalScene(
                one.key,
                tree,
                one.rank,
                before=scene.before.get(one.id, {}),
                standing=tuple(standing),
                number=one.id,
            )
        )
    return rehearse(
        plays, scene.known, *scene.span, scene.around, scene.rates, scene.already, watched, progress
    )
