"""What orders are put down to, and who qualified for what: whole columns of the snapshot, kept while it
stands.
"""

from dataclasses import dataclass
from datetime import timedelta

import numpy as np
from sqlalchemy import Integer, func, select, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import Ints, Mask, Small, by_person_and_time
from loyalbell.core.history.snapshot import ENROLMENT_ENDS, HistorySnapshot
from loyalbell.core.policy.delivery_state import SENT, WITHHELD
from loyalbell.core.policy.holdout import Holdout, quarter_of
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.core.results.attribution import Reason, Touches, attribute
from loyalbell.core.results.came_back import Qualified
from loyalbell.core.sequences.event_rows import STANDING, EventRows, event_rows
from loyalbell.core.sequences.plan import Plan, plan_or_none
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.qualifying import seconds_until_anything
from loyalbell.services.application import Application
from loyalbell.services.results.responses import BY_A_PERSON
from loyalbell.services.settings.channels import HoldoutSettings, ResultsSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, DeliveryEvent, OfferCode, Redemption, SequenceVersion

Origin = tuple[str, int]
"""``campaign`` or ``sequence``, and its number."""


@dataclass(frozen=True)
class Credits:
    """Orders that stand, each with the delivery it is put down to (-1: none) and why. Money is net."""

    order: Ints
    person: Small
    at: Ints
    money: Ints
    delivery: Ints
    reason: Small

    def of_deliveries(self, deliveries: Ints) -> "Credits":
        mine = np.isin(self.delivery, deliveries)
        return Credits(*(getattr(self, name)[mine] for name in self.__dataclass_fields__))


def credits_of(application: Application) -> Credits:
    """Every order of the book, attributed once over campaigns and sequences alike."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    counting = loaded(application, ResultsSettings)
    return application.cache.of_version(
        "credits",
        snapshot.version,
        (now // 60, counting.window_days, counting.opens_count),
        lambda: _credits(application, snapshot, counting, now),
        2,
    )


def credits_of_person(application: Application, person_id: int) -> Credits:
    """The same for the orders of one person, who must be on file."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    number = int(snapshot.number_of(np.array([person_id], dtype=np.int64))[0])
    return _credits(application, snapshot, loaded(application, ResultsSettings), now, number)


def _credits(
    application: Application,
    snapshot: HistorySnapshot,
    counting: ResultsSettings,
    now: int,
    only: int | None = None,
) -> Credits:
    orders = snapshot.orders
    rows = slice(0, int(np.searchsorted(orders.at, now, side="right")))
    stands = orders.counted(rows, now)
    if only is not None:
        stands &= orders.person[rows] == only
    key, person, at = orders.key[rows][stands], orders.person[rows][stands], orders.at[rows][stands]
    money = orders.net_money(rows, now)[stands]
    ours = _ours(snapshot)
    if only is not None:
        ours &= snapshot.deliveries.person == only
    clicks = _engaged(snapshot, "clicked", ours)
    texts = ours & np.isin(snapshot.deliveries.channel, [CHANNELS.index(one) for one in ("text", "chat")])
    sent = snapshot.deliveries.taken(texts)
    kinds = [
        (Reason.CLICK, clicks),
        (Reason.TEXT, Touches(sent.person, sent.at, sent.key)),
    ]
    if counting.opens_count:
        kinds.append((Reason.OPEN, _opened_by_people(application, snapshot, ours)))
    found = attribute(person, at, kinds, counting.window_days)
    delivery, reason = found.delivery, found.reason
    with application.database.reading() as session:
        codes = _codes_used(session)
    by_code = np.array([codes.get(order, -1) for order in key.tolist()] if codes else [], dtype=np.int64)
    if len(by_code):
        delivery = np.where(by_code >= 0, by_code, delivery)
        reason = np.where(by_code >= 0, np.int32(Reason.CODE), reason)
    return Credits(key, person, at, money, delivery, reason)


def _ours(snapshot: HistorySnapshot) -> Mask:
    """Which messages are of campaigns and sequences."""
    words = [snapshot.words.get(word, -1) for word in (CAMPAIGN, SEQUENCE)]
    return np.isin(snapshot.deliveries.origin, words)


def _engaged(
    snapshot: HistorySnapshot, what: str, ours: np.ndarray[tuple[int], np.dtype[np.bool_]]
) -> Touches:
    rows = snapshot.engagements
    mine = (rows.kind == snapshot.words.get(what, -1)) & np.isin(rows.delivery, snapshot.deliveries.key[ours])
    return Touches(rows.person[mine], rows.at[mine], rows.delivery[mine])


def _opened_by_people(application: Application, snapshot: HistorySnapshot, ours: Mask) -> Touches:
    """Without what machines fetched, by delivery and second."""
    with application.database.reading() as session:
        query = select(DeliveryEvent.delivery_id, type_coerce(DeliveryEvent.at, Integer)).where(
            DeliveryEvent.kind == "opened", ~BY_A_PERSON
        )
        fetched = {tuple(row) for row in session.execute(query)}
    opens = _engaged(snapshot, "opened", ours)
    keys = zip(opens.delivery.tolist(), opens.at.tolist(), strict=True)
    kept = np.array([key not in fetched for key in keys], dtype=np.bool_)
    return Touches(opens.person[kept], opens.at[kept], opens.delivery[kept])


def _codes_used(session: Session) -> dict[int, int]:
    """By order the delivery whose code was used with it."""
    query = (
        select(Redemption.order_id, OfferCode.delivery_id)
        .join(OfferCode, OfferCode.id == Redemption.code_id)
        .join(Delivery, Delivery.id == OfferCode.delivery_id)
        .where(Redemption.order_id.is_not(None), Delivery.origin_kind.in_((CAMPAIGN, SEQUENCE)))
        .order_by(Redemption.order_id)
    )
    return {order: delivery for order, delivery in session.execute(query) if order and delivery}


def qualified_for(application: Application, origin: Origin) -> Qualified:
    """Who qualified for a campaign or a sequence, at every time they did, treated or held back."""
    everyone = (
        _of_sequence(application, origin[1])
        if origin[0] == SEQUENCE
        else _of_campaign(application, origin[1])
    )
    return everyone.taken(~_held_out(application, everyone))


def _held_out(application: Application, everyone: Qualified) -> Mask:
    """Who of them got no marketing of any kind in that quarter: they are compared elsewhere."""
    holdout = loaded(application, HoldoutSettings).holdout
    out = np.zeros(len(everyone), dtype=np.bool_)
    if holdout.since is None:
        return out
    zone = application.snapshot().zone
    for begins, ends in holdout.quarters(local_day(application.clock.now(), zone)):
        low = int(start_of_day(begins, zone).timestamp())
        high = int(start_of_day(ends + timedelta(days=1), zone).timestamp())
        within = (everyone.at >= low) & (everyone.at < high)
        out |= within & drawn_out(application, holdout, quarter_of(begins))[everyone.person]
    return out


def drawn_out(application: Application, holdout: Holdout, quarter: str) -> Mask:
    """By person number who is left out in a quarter."""
    ids = application.snapshot().people.ids

    def work() -> Mask:
        return np.array([holdout.draws(one, quarter) for one in ids.tolist()], dtype=np.bool_)

    newest = int(ids[-1]) if len(ids) else 0
    key = (quarter, holdout.share(quarter), len(ids), newest)
    return application.cache.get("left out", key, work, 8)


def plan_of_sequence(session: Session, sequence_id: int) -> Plan | None:
    """The newest published plan, ``None`` where there is none or it cannot be read."""
    query = select(SequenceVersion.plan).where(SequenceVersion.sequence_id == sequence_id)
    data = session.scalar(query.order_by(SequenceVersion.number.desc()).limit(1))
    return None if data is None else plan_or_none(data)


def enrolments_of(application: Application, sequence_id: int) -> Qualified:
    """Everybody who came into a sequence or was held back from it, each time, from that instant."""
    enrolments = application.snapshot().enrolments
    mine = enrolments.taken(enrolments.sequence == sequence_id)
    return Qualified(mine.person, mine.at, mine.how == ENROLMENT_ENDS.index("held back"))


def _of_sequence(application: Application, sequence_id: int) -> Qualified:
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    with application.database.reading() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        plan = plan_of_sequence(session, sequence_id)
    mine = enrolments_of(application, sequence_id)
    if plan is None:
        return mine
    tree = tree_of(plan)
    numbers, place = np.unique(mine.person, return_inverse=True)
    people = snapshot.people.ids[numbers].tolist()
    each = np.array([seconds_until_anything(tree, sequence.key, person) for person in people], dtype=np.int64)
    waits = each[place] if len(mine) else np.zeros(0, dtype=np.int64)
    then = mine.at + waits
    stays = then <= now
    since = int(mine.at.min()) - 1 if len(mine) else 0
    for stop in plan.exit_events if waits.any() else ():
        stays &= ~_happened_between(event_rows(stop, snapshot, since, now), mine.person, mine.at, then)
    return Qualified(mine.person, then, mine.is_held).taken(stays)


def _happened_between(rows: EventRows, person: Small, low: Ints, high: Ints) -> Mask:
    """Whether it happened to each with ``low < at <= high``, and still stood at ``high``."""
    stand = rows.until >= STANDING
    keys = np.sort(by_person_and_time(rows.person[stand], rows.at[stand]))
    first = np.searchsorted(keys, by_person_and_time(person, low), side="right")
    last = np.searchsorted(keys, by_person_and_time(person, high), side="right")
    found: Mask = last > first
    void = rows.taken(~stand)
    for who, at, until in zip(void.person.tolist(), void.at.tolist(), void.until.tolist(), strict=True):
        found |= (person == who) & (low < at) & (at <= high) & (until > high)
    return found


def _of_campaign(application: Application, campaign_id: int) -> Qualified:
    snapshot = application.snapshot()
    held = (Delivery.state == WITHHELD) & (Delivery.cause == "held back")
    query = select(
        Delivery.person_id, func.coalesce(Delivery.sent_at, Delivery.due_at), held.label("held")
    ).where(
        Delivery.origin_kind == CAMPAIGN,
        Delivery.origin_id == campaign_id,
        held | (Delivery.state == SENT),
    )
    with application.database.reading() as session:
        rows = session.execute(query).all()
    ids = np.array([row[0] for row in rows], dtype=np.int64)
    at = np.array([int(row[1].timestamp()) for row in rows], dtype=np.int64)
    numbers = snapshot.number_of(ids)
    known = numbers >= 0
    is_held = np.array([bool(row[2]) for row in rows], dtype=np.bool_)
    return Qualified(numbers.astype(np.int32), at, is_held).taken(known)
