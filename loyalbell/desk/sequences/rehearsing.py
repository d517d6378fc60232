"""Rehearsals on the shop's own past: this plan beside the sequences that ring, with their limits and collisions."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.ledger import Ledger
from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.figures import Figures, figures
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.rehearse import Line, Played, Rehearsal, rehearse
from loyalbell.core.sequences.starts import Around, Crossing, crossings
from loyalbell.core.sequences.tree import tree_of
from loyalbell.desk.channel_settings import GATEWAYS, StaffSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences.acts import SEQUENCE
from loyalbell.desk.sequences.house import around_of, house_of, live_plans
from loyalbell.store import tables
from loyalbell.store.tables import Message, MessageVersion, Shop, Touch, TouchEvent

PAST_DAYS = 180
KEPT = 24
WATCHED = 300
ACTS = ("opened", "clicked", "replied")
USUAL_REPLIES = {"email": 0.01, "text": 0.05, "chat": 0.1}
"""Replies a message where the shop has too few of its own to tell (common practice, no source)."""
ENOUGH = 50


@dataclass(frozen=True)
class Rehearsed:
    """The rehearsal of one plan, its figures, and the diaries of the people watched."""

    found: Rehearsal
    figures: Figures
    diaries: dict[int, list[Line]]
    days: int
    others: int


_kept: dict[tuple[object, ...], Rehearsed] = {}


def rehearse_past(
    desk: Desk, plan: Plan, sequence_id: int = 0, days: int = PAST_DAYS, watched: int = WATCHED,
    alone: bool = False, progress: Callable[[float], None] = lambda share: None,
) -> Rehearsed:  # fmt: skip
    """What the plan would have done in the past ``days`` days. Raises ``RuleProblem``. Kept while the book stays the same.

    ``watched``: of how many people the diaries are kept.
    """
    ledger, now = desk.ledger(), desk.clock.now()
    mark = (str(desk.book.path), ledger.version, int(now.timestamp()) // 3_600, plan.model_dump_json(), sequence_id, days, watched, alone)  # fmt: skip
    if mark in _kept:
        return _kept[mark]
    start = now - timedelta(days=days)
    with desk.book.reading() as session:
        shop = session.get_one(Shop, 1)
        house = house_of(session, shop, now)
        around = around_of(session, house)
        others = (
            [] if alone else [(one, other) for one, other in live_plans(session) if one.id != sequence_id]
        )
        key = session.scalar(select(tables.Sequence.key).where(tables.Sequence.id == sequence_id)) or "draft"
        rates = reactions(session, now)
        already = _really_sent(session, start, [one.id for one, _ in others])
        costs = {channel: group.load(session).cost_minor for channel, group in GATEWAYS.items()}
        staff = StaffSettings.load(session)
    numbers = {at: number for number, at in enumerate(ledger.people.ids.tolist())}
    known = Known(ledger, house, int(start.timestamp()) - 800 * 86_400, int(now.timestamp()))
    span = (int(start.timestamp()), int(now.timestamp()))
    plays = [
        Played(one_key, tree_of(one), rank, crossed=_crossings(desk, one, ledger, span, around))
        for one_key, one, rank in [(key, plan, 0), *((one.key, other, one.rank) for one, other in others)]
    ]
    found = rehearse(
        plays, known, *span, around, rates,
        [(at, numbers[person]) for at, person in already if person in numbers], watched, progress,
    )  # fmt: skip
    replies = {channel: rates.get((channel, "replied"), USUAL_REPLIES[channel]) for channel in USUAL_REPLIES}
    made = Rehearsed(
        found,
        figures(found, ledger, 0, costs, replies, staff.answers_an_hour),
        found.diaries,
        days,
        len(others),
    )
    while len(_kept) >= KEPT:
        _kept.pop(next(iter(_kept)))
    _kept[mark] = made
    return made


_crossed: dict[tuple[object, ...], list[Crossing]] = {}


def _crossings(
    desk: Desk, plan: Plan, ledger: Ledger, span: tuple[int, int], around: Around
) -> list[Crossing]:
    """Who crosses the start line; kept, since most changes to a plan leave its start as it is."""
    mark = (
        str(desk.book.path),
        ledger.version,
        span,
        plan.start.model_dump_json(),
        around.others,
        around.leap_day,
    )
    if mark not in _crossed:
        while len(_crossed) >= KEPT:
            _crossed.pop(next(iter(_crossed)))
        _crossed[mark] = crossings(plan.start, ledger, *span, around)
    return _crossed[mark]


def reactions(session: Session, now: datetime) -> dict[tuple[str, str], float]:
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


def _really_sent(session: Session, start: datetime, replayed: list[int]) -> list[tuple[int, int]]:
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
