"""Rehearsals on the shop's own past: this plan beside the sequences that ring, with their limits and collisions."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import count

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.ledger import Ledger
from loyalbell.core.part_of_ledger import asks_of_ours
from loyalbell.core.sequences.facts import House, Known
from loyalbell.core.sequences.figures import Figures, figures
from loyalbell.core.sequences.imagined import ACTS, Rates
from loyalbell.core.sequences.plan import OnSegment, Plan, every_step
from loyalbell.core.sequences.rehearsal import Line, Played, Rehearsal
from loyalbell.core.sequences.rehearse import rehearse
from loyalbell.core.sequences.starts import Around, Crossing, crossings
from loyalbell.core.sequences.tree import tree_of
from loyalbell.desk.behind import Behind
from loyalbell.desk.channel_settings import GATEWAYS, StaffSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences.acts import SEQUENCE
from loyalbell.desk.sequences.house import around_of, house_of, live_plans
from loyalbell.store import tables
from loyalbell.store.tables import Message, MessageVersion, Shop, Touch, TouchEvent

PAST_DAYS, SHORT_DAYS = 180, 60
KEPT = 24
WATCHED = 300
USUAL_REPLIES = {"email": 0.01, "text": 0.05, "chat": 0.1}
"""Replies a message where the shop has too few of its own to tell (common practice, no source)."""
ENOUGH = 50


@dataclass(frozen=True)
class Rehearsed:
    """The rehearsal of one plan, its figures, and the diaries of some; ``counted``: whether the ``others`` are in it.

    ``replies`` are expected answers a message, by channel.
    """

    found: Rehearsal
    figures: Figures
    diaries: dict[int, list[Line]]
    days: int
    others: int
    replies: Mapping[str, float]
    counted: bool = True


_kept: dict[tuple[object, ...], Rehearsed] = {}


def rehearse_past(
    desk: Desk, plan: Plan, sequence_id: int = 0, days: int = PAST_DAYS, alone: bool = False, wait: bool = False,
    progress: Callable[[float], None] = lambda share: None,
) -> Rehearsed:  # fmt: skip
    """What the plan would have done in the past ``days`` days. Raises ``RuleProblem``. Kept while the book stays the same.

    What the other sequences that ring would have sent counts towards the limits, they going first; they are played
    once a day in the background, and until that is done (or with ``alone``) are left out. ``wait`` waits for them.
    """
    ledger, now = desk.ledger(), _hour(desk.clock.now())
    others = [] if alone else others_sent(desk, sequence_id, days, wait)
    stage = _stage(desk, ledger, now, days, (sequence_id,))
    mark = (stage.number, plan.model_dump_json(), sequence_id, days, others is None, alone)
    if mark in _kept:
        return _kept[mark]
    with desk.book.reading() as session:
        live = [one.id for one, _ in live_plans(session) if one.id != sequence_id]
        key = session.scalar(select(tables.Sequence.key).where(tables.Sequence.id == sequence_id)) or "draft"
        already = [
            *really_sent(session, now - timedelta(days=days), live if others else []),
            *(others or []),
        ]
    numbers = {at: number for number, at in enumerate(ledger.people.ids.tolist())}
    play = Played(key, tree_of(plan), crossed=_crossings(stage, plan), number=sequence_id)
    sent = sorted((at, numbers[person]) for at, person in already if person in numbers)
    found = rehearse([play], stage.known, *stage.span, stage.around, stage.rates, sent, WATCHED, progress)
    made = made_of(desk, found, ledger, 0, stage.rates, days, len(live), others is not None)
    while len(_kept) >= KEPT:
        _kept.pop(next(iter(_kept)))
    _kept[mark] = made
    return made


def made_of(
    desk: Desk, found: Rehearsal, ledger: Ledger, play: int, rates: Mapping[tuple[str, str], float], days: int,
    others: int, counted: bool = True,
) -> Rehearsed:  # fmt: skip
    """The figures of one of the sequences played, at the shop's costs and with the staff it has."""
    with desk.book.reading() as session:
        costs = {channel: group.load(session).cost_minor for channel, group in GATEWAYS.items()}
        staff = StaffSettings.load(session)
    replies = {channel: rates.get((channel, "replied"), usual) for channel, usual in USUAL_REPLIES.items()}
    counted_up = figures(found, ledger, play, costs, replies, staff.answers_an_hour)
    return Rehearsed(found, counted_up, found.diaries, days, others, replies, counted)


@dataclass(frozen=True, eq=False)
class _Stage:
    """What a rehearsal plays on: the book at one hour, with the shop's own rules as they are now."""

    number: int
    book: str
    ledger: Ledger
    replayed: tuple[int, ...]
    known: Known
    around: Around
    rates: Rates
    span: tuple[int, int]

    def is_like(self, ledger: Ledger, replayed: tuple[int, ...], house: House, around: Around, rates: Rates, span: tuple[int, int]) -> bool:  # fmt: skip
        same = self.ledger is ledger and self.replayed == replayed and self.span == span
        return same and self.known.house == house and self.around == around and self.rates == rates


_stages: list[_Stage] = []
_numbers = count(1)
STAGES = 4


def _stage(desk: Desk, ledger: Ledger, now: datetime, days: int, played: tuple[int, ...]) -> _Stage:
    """One that has been made ready already, where nothing has changed since. ``played`` are sequences played again."""
    with desk.book.reading() as session:
        house = house_of(session, session.get_one(Shop, 1), now)
        around, rates = around_of(session, house), reactions(session, now)
    end, start = int(now.timestamp()), int((now - timedelta(days=days)).timestamp())
    replayed = tuple(one for one in played if one in ledger.ways.sequence)
    for stage in list(_stages):
        if stage.is_like(ledger, replayed, house, around, rates, (start, end)):
            return stage
    known = Known(without_doings(ledger, replayed, start), house, start - 800 * 86_400, end)
    book = str(desk.book.path)
    made = _Stage(next(_numbers), book, ledger, replayed, known, around, rates, (start, end))
    still = [one for one in _stages if one.book != book or one.ledger is ledger]
    _stages[:] = [*still, made][-STAGES:]
    return made


def without_doings(ledger: Ledger, sequences: Sequence[int], since: int) -> Ledger:
    """Without what some sequences really did after ``since``: a rehearsal puts what it imagines in its place."""
    if not sequences:
        return ledger
    touches, ways, responses = ledger.touches, ledger.ways, ledger.responses
    ours = (touches.origin == ledger.words.get(SEQUENCE, -1)) & np.isin(touches.origin_id, sequences) & (touches.at > since)  # fmt: skip
    return replace(
        ledger,
        touches=touches.taken(~ours),
        responses=responses.taken(~np.isin(responses.touch, touches.key[ours])),
        ways=ways.taken(~(np.isin(ways.sequence, sequences) & (ways.at > since))),
    )


def _hour(now: datetime) -> datetime:
    return now.replace(minute=0, second=0, microsecond=0)


Others = list[tuple[int, int, int]]
_others: Behind[Others] = Behind(4, [])


def others_sent(desk: Desk, but: int, days: int, wait: bool = False) -> list[tuple[int, int]] | None:
    """(instant, person id) of the marketing messages that the other live sequences would have sent; ``None`` while played."""
    with desk.book.reading() as session:
        live = live_plans(session)
    if all(one.id == but for one, _ in live):
        return []
    every = tuple(one.live_version_id for one, _ in live)
    mark = (str(desk.book.path), desk.clock.now().date(), every, days)
    found = _others.get(mark, lambda: _play_all(desk, days), wait)
    return None if found is None else [(at, person) for at, person, sequence in found if sequence != but]


def _play_all(desk: Desk, days: int) -> Others:
    """(instant, person id, sequence id) of what all that rings would have sent, played side by side."""
    ledger, now = desk.ledger(), _hour(desk.clock.now())
    with desk.book.reading() as session:
        live = live_plans(session)
    stage = _stage(desk, ledger, now, days, tuple(one.id for one, _ in live))
    plays = [Played(one.key, tree_of(plan), one.rank, crossed=_crossings(stage, plan), number=one.id) for one, plan in live]  # fmt: skip
    found = rehearse(plays, stage.known, *stage.span, stage.around, stage.rates)
    steps = [{one.id: one for one in every_step(plan.steps)} for _, plan in live]
    marketing = {at for at, letter in stage.known.house.letters.items() if letter.marketing}
    return [
        (one.at, stage.known.ids[one.person], live[one.play][0].id)
        for one in found.sent
        if getattr(steps[one.play][one.step], "message", None) in marketing
    ]


_crossed: dict[tuple[object, ...], list[Crossing]] = {}


def _crossings(stage: _Stage, plan: Plan) -> list[Crossing]:
    """Who crosses the start line; kept, since most changes to a plan leave its start as it is."""
    mark: tuple[object, ...] = (stage.book, stage.ledger.version, stage.span, plan.start.model_dump_json(), stage.around.others, stage.around.leap_day)  # fmt: skip
    if isinstance(plan.start, OnSegment):
        segments = stage.around.segments
        mark += tuple((at, rule.model_dump_json()) for at, rule in segments.items())
        mark += stage.replayed if asks_of_ours(plan.start.rule, segments) else ()
    if mark not in _crossed:
        while len(_crossed) >= KEPT:
            _crossed.pop(next(iter(_crossed)))
        _crossed[mark] = crossings(plan.start, stage.known.ledger, *stage.span, stage.around)
    return _crossed[mark]


def reactions(session: Session, now: datetime) -> Rates:
    """Shares of messages that were opened, clicked and answered in the past year, by (channel, what); where there are enough."""
    since = now - timedelta(days=365)
    sent: Mapping[str, int] = dict(
        session.execute(
            select(Touch.channel, func.count())
            .where(
                Touch.state == "sent", Touch.sent_at > since, Touch.origin_kind.in_(("campaign", SEQUENCE))
            )
            .group_by(Touch.channel)
        ).all()
    )
    rows = session.execute(
        select(Touch.channel, TouchEvent.kind, func.count(func.distinct(Touch.id)))
        .join(TouchEvent, TouchEvent.touch_id == Touch.id)
        .where(Touch.state == "sent", Touch.sent_at > since, TouchEvent.kind.in_(ACTS))
        .group_by(Touch.channel, TouchEvent.kind)
    )
    return {
        (channel, kind): min(count / sent[channel], 1.0)
        for channel, kind, count in rows
        if sent.get(channel, 0) >= ENOUGH
    }


def really_sent(session: Session, start: datetime, replayed: list[int]) -> list[tuple[int, int]]:
    """(instant, person id) of marketing messages that really went, save those of sequences that are played again."""
    query = (
        select(Touch.sent_at, Touch.person_id)
        .join(MessageVersion, MessageVersion.id == Touch.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(
            Touch.state == "sent", Touch.sent_at > start - timedelta(days=31), Message.purpose == "marketing",
            (Touch.origin_kind != SEQUENCE) | Touch.origin_id.not_in(replayed or [0]) | (Touch.sent_at <= start),
        )
    )  # fmt: skip
    return [(int(at.timestamp()), person) for at, person in session.execute(query) if at is not None]
