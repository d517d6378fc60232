"""Rehearsals on the shop's own past: this plan beside the sequences that ring, with their limits and
collisions.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.channels import TYPES as CHANNEL_TYPES
from loyalbell.core.history.snapshot import Consents, HistorySnapshot
from loyalbell.core.policy.delivery_state import SENT
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.send_policy import REMEMBERED_DAYS
from loyalbell.core.segments.locality import asks_of_ours
from loyalbell.core.sequences.engine_facts import SendPolicy, SequenceHistory
from loyalbell.core.sequences.plan import OnSegment, Plan, every_step
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Line, Rehearsal, RehearsalScene
from loyalbell.core.sequences.rehearsal_figures import Figures, figures
from loyalbell.core.sequences.simulated_history import ACTS, Rates
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerContext, TriggerHit, is_daily, telling_hits
from loyalbell.services.application import Application, Progress
from loyalbell.services.sequences.shop_policy import around_of, live_plans, send_policy_of
from loyalbell.services.settings.channels import GATEWAYS, StaffSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, DeliveryEvent, Message, MessageVersion, Shop

PAST_DAYS, SHORT_DAYS = 180, 60
KEPT = 24
WATCHED = 300
USUAL_REPLIES = {name: kind.usual_replies for name, kind in CHANNEL_TYPES.items()}
"""Replies a message where the shop has too few of its own to tell (common practice, no source)."""
ENOUGH = 50
BEGINNING = 0


@dataclass(frozen=True)
class Rehearsed:
    """The rehearsal of one plan, its figures, and the diaries of some.

    ``counted``: whether the ``others`` are in it.

    ``replies`` are expected answers a message, by channel.
    """

    found: Rehearsal
    figures: Figures
    diaries: dict[int, list[Line]]
    days: int
    others: int
    replies: Mapping[str, float]
    counted: bool = True


def rehearse_past(
    application: Application,
    plan: Plan,
    sequence_id: int = 0,
    days: int = PAST_DAYS,
    alone: bool = False,
    wait: bool = False,
    consent_now: bool = False,
    progress: Progress = lambda share: None,
) -> Rehearsed:
    """What the plan would have done in the past ``days`` days.

    Raises ``RuleProblem``. Kept while the book stays the same.

    What the other sequences that ring would have sent counts towards the limits, they going first; they are
    played once a day in the background, and until that is done (or with ``alone``) are left out. ``wait``
    waits for them. With ``consent_now`` whoever has agreed by now is taken to have agreed all along: consents
    that came with a file of today leave the past empty otherwise.
    """
    snapshot, now = application.snapshot(), _hour(application.clock.now())
    others = [] if alone else others_sent(application, sequence_id, days, wait)
    terms = _terms(application, now)
    mark = (
        *(snapshot.version, now, terms.mark, plan.model_dump_json()),
        *(sequence_id, days, others is None, alone, consent_now),
    )
    known: Rehearsed | None = application.cache.peek("rehearsals", mark)
    if known is not None:
        return known
    made = application.work_out(
        _rehearse_past, plan, sequence_id, days, consent_now, others, terms, progress=progress
    )
    return application.cache.get("rehearsals", mark, lambda: made, KEPT)


def _rehearse_past(
    application: Application,
    plan: Plan,
    sequence_id: int,
    days: int,
    consent_now: bool,
    others: list[tuple[int, int]] | None,
    terms: "_Terms",
    progress: Progress,
) -> Rehearsed:
    snapshot, now = application.snapshot(), _hour(application.clock.now())
    stage = _stage(application, snapshot, now, days, (sequence_id,), terms, consent_now)
    with application.database.reading() as session:
        live = [one.id for one, _ in live_plans(session) if one.id != sequence_id]
        key = session.scalar(select(schema.Sequence.key).where(schema.Sequence.id == sequence_id)) or "draft"
        already = [
            *really_sent(session, now - timedelta(days=days), live if others else []),
            *(others or []),
        ]
    numbers = {at: number for number, at in enumerate(snapshot.people.ids.tolist())}
    play = RehearsalScene(
        key, tree_of(plan), crossed=_trigger_hits(application, stage, plan), number=sequence_id
    )
    sent = sorted((at, numbers[person]) for at, person in already if person in numbers)
    found = rehearse([play], stage.known, *stage.span, stage.around, stage.rates, sent, WATCHED, progress)
    return made_of(application, found, snapshot, 0, stage.rates, days, len(live), others is not None)


def made_of(
    application: Application,
    found: Rehearsal,
    snapshot: HistorySnapshot,
    play: int,
    rates: Mapping[tuple[str, str], float],
    days: int,
    others: int,
    counted: bool = True,
) -> Rehearsed:
    """The figures of one of the sequences played, at the shop's costs and with the staff it has."""
    with application.database.reading() as session:
        costs = {channel: group.load(session).cost_minor for channel, group in GATEWAYS.items()}
        staff = StaffSettings.load(session)
    replies = {channel: rates.get((channel, "replied"), usual) for channel, usual in USUAL_REPLIES.items()}
    counted_up = figures(found, snapshot, play, costs, replies, staff.answers_an_hour)
    return Rehearsed(found, counted_up, found.diaries, days, others, replies, counted)


@dataclass(frozen=True)
class _Terms:
    """The shop's own rules, what its starts lean on, and how its customers react."""

    policy: SendPolicy
    around: TriggerContext
    rates: Rates

    @property
    def mark(self) -> tuple[str, ...]:
        return repr(self.policy), repr(self.around), repr(sorted(self.rates.items()))


def _terms(application: Application, now: datetime) -> _Terms:
    with application.database.reading() as session:
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        return _Terms(policy, around_of(session, policy), reactions(session, now))


@dataclass(frozen=True, eq=False)
class _Stage:
    """What a rehearsal plays on: the book at one hour, with the shop's own rules as they are now."""

    snapshot: HistorySnapshot
    replayed: tuple[int, ...]
    known: SequenceHistory
    around: TriggerContext
    rates: Rates
    span: tuple[int, int]


STAGES = 4


def _stage(
    application: Application,
    snapshot: HistorySnapshot,
    now: datetime,
    days: int,
    played: tuple[int, ...],
    terms: _Terms,
    consent_now: bool = False,
) -> _Stage:
    """One that has been made ready already, where nothing has changed since.

    ``played`` are sequences played again.
    """
    end, start = int(now.timestamp()), int((now - timedelta(days=days)).timestamp())
    replayed = tuple(one for one in played if one in snapshot.enrolments.sequence)
    key = (terms.mark, replayed, (start, end), consent_now)

    def make() -> _Stage:
        base = with_consents_of(snapshot, end) if consent_now else snapshot
        bare = without_doings(base, replayed, start)
        known = SequenceHistory(bare, terms.policy, start - 800 * 86_400, end)
        return _Stage(base, replayed, known, terms.around, terms.rates, (start, end))

    return application.cache.of_version("stages", snapshot.version, key, make, STAGES)


def with_consents_of(snapshot: HistorySnapshot, as_of: int) -> HistorySnapshot:
    """The book as if what people say of each channel at ``as_of`` had held from the beginning."""
    said = [(channel, snapshot.consent_states(channel, as_of)) for channel in range(len(CHANNELS))]
    people = [(channel, np.flatnonzero(states), states) for channel, states in said]
    consents = Consents.of(
        person=np.concatenate([person for _, person, _ in people]),
        at=np.concatenate([np.full(len(person), BEGINNING) for _, person, _ in people]),
        channel=np.concatenate([np.full(len(person), channel) for channel, person, _ in people]),
        state=np.concatenate([states[person] for _, person, states in people]),
    )
    return replace(snapshot, consents=consents)


def without_doings(snapshot: HistorySnapshot, sequences: Sequence[int], since: int) -> HistorySnapshot:
    """Without what some sequences really did after ``since``: a rehearsal puts what it imagines in its
    place.
    """
    if not sequences:
        return snapshot
    deliveries, enrolments, engagements = snapshot.deliveries, snapshot.enrolments, snapshot.engagements
    ours = (
        (deliveries.origin == snapshot.words.get(SEQUENCE, -1))
        & np.isin(deliveries.origin_id, sequences)
        & (deliveries.at > since)
    )
    return replace(
        snapshot,
        deliveries=deliveries.taken(~ours),
        engagements=engagements.taken(~np.isin(engagements.delivery, deliveries.key[ours])),
        enrolments=enrolments.taken(~(np.isin(enrolments.sequence, sequences) & (enrolments.at > since))),
    )


def _hour(now: datetime) -> datetime:
    return now.replace(minute=0, second=0, microsecond=0)


Others = list[tuple[int, int, int]]


def others_sent(
    application: Application, but: int, days: int, wait: bool = False
) -> list[tuple[int, int]] | None:
    """(instant, person id) of the marketing messages that the other live sequences would have sent.

    ``None`` while played.
    """
    with application.database.reading() as session:
        live = live_plans(session)
    if all(one.id == but for one, _ in live):
        return []
    every = tuple(one.live_version_id for one, _ in live)
    key = (application.clock.now().date(), every, days)
    nothing: Others = []
    found = application.background.get(
        "sent by others",
        key,
        lambda: application.work_out(_play_all, days, beforehand=not wait),
        nothing,
        most=4,
        wait=wait,
    )
    return None if found is None else [(at, person) for at, person, sequence in found if sequence != but]


def _play_all(application: Application, days: int, progress: Progress) -> Others:
    """(instant, person id, sequence id) of what all that rings would have sent, played side by side."""
    snapshot, now = application.snapshot(), _hour(application.clock.now())
    with application.database.reading() as session:
        live = live_plans(session)
    played = tuple(one.id for one, _ in live)
    stage = _stage(application, snapshot, now, days, played, _terms(application, now))
    plays = [
        RehearsalScene(
            one.key, tree_of(plan), one.rank, crossed=_trigger_hits(application, stage, plan), number=one.id
        )
        for one, plan in live
    ]
    found = rehearse(plays, stage.known, *stage.span, stage.around, stage.rates, progress=progress)
    steps = [{one.id: one for one in every_step(plan.steps)} for _, plan in live]
    marketing = {at for at, letter in stage.known.policy.letters.items() if letter.marketing}
    return [
        (one.at, stage.known.ids[one.person], live[one.play][0].id)
        for one in found.sent
        if getattr(steps[one.play][one.step], "message", None) in marketing
    ]


def _trigger_hits(application: Application, stage: _Stage, plan: Plan) -> list[TriggerHit]:
    """Who crosses the start line; kept, since most changes to a plan leave its start as it is."""
    mark: tuple[object, ...] = (
        stage.snapshot.version,
        stage.span,
        plan.start.model_dump_json(),
        stage.around.others,
    )
    if isinstance(plan.start, OnSegment):
        segments = stage.around.segments
        mark += tuple((at, rule.model_dump_json()) for at, rule in segments.items())
        mark += stage.replayed if asks_of_ours(plan.start.rule, segments) else ()
        mark += (plan.again.kind == "never" and plan.only is None,) if is_daily(plan.start) else ()
    return application.cache.get(
        "trigger hits",
        mark,
        lambda: telling_hits(plan, stage.known.snapshot, *stage.span, stage.around),
        KEPT,
    )


def reactions(session: Session, now: datetime) -> Rates:
    """Shares of messages that were opened, clicked and answered in the past year, by (channel, what).

    Where there are enough.
    """
    since = now - timedelta(days=365)
    sent: Mapping[str, int] = dict(
        session.execute(
            select(Delivery.channel, func.count())
            .where(
                Delivery.state == SENT,
                Delivery.sent_at > since,
                Delivery.origin_kind.in_(("campaign", SEQUENCE)),
            )
            .group_by(Delivery.channel)
        ).all()
    )
    rows = session.execute(
        select(Delivery.channel, DeliveryEvent.kind, func.count(func.distinct(Delivery.id)))
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(Delivery.state == SENT, Delivery.sent_at > since, DeliveryEvent.kind.in_(ACTS))
        .group_by(Delivery.channel, DeliveryEvent.kind)
    )
    return {
        (channel, kind): min(count / sent[channel], 1.0)
        for channel, kind, count in rows
        if sent.get(channel, 0) >= ENOUGH
    }


def really_sent(session: Session, start: datetime, replayed: list[int]) -> list[tuple[int, int]]:
    """(instant, person id) of marketing messages that really went, save those of sequences that are played
    again.
    """
    query = (
        select(Delivery.sent_at, Delivery.person_id)
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(
            Delivery.state == SENT,
            Delivery.sent_at > start - timedelta(days=REMEMBERED_DAYS),
            Message.purpose == "marketing",
            (Delivery.origin_kind != SEQUENCE)
            | Delivery.origin_id.not_in(replayed or [0])
            | (Delivery.sent_at <= start),
        )
    )
    return [(int(at.timestamp()), person) for at, person in session.execute(query) if at is not None]
