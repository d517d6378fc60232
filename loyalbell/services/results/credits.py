"""Which message each order is put down to: whole columns of the snapshot, kept while it stands."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import Integer, select, type_coerce

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.columns import Ints, Mask, Small
from loyalbell.core.history.settled import places_of
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE, Origin
from loyalbell.core.results.attribution import Reason, Touches, attribute
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.results.by_a_person import BY_A_PERSON
from loyalbell.services.results.ranges import Days
from loyalbell.services.settings.channels import ResultsSettings, loaded
from loyalbell.storage.schema import Delivery, DeliveryEvent

AT_ONCE = 5_000
CODES_USED = (
    "SELECT redemption.order_id, offer_code.delivery_id FROM redemption"
    " JOIN offer_code ON offer_code.id = redemption.code_id"
    " JOIN delivery ON delivery.id = offer_code.delivery_id"
    f" WHERE redemption.order_id IS NOT NULL AND delivery.origin_kind IN ('{CAMPAIGN}', '{SEQUENCE}')"
    " ORDER BY redemption.order_id, redemption.id"
)
"""As whole numbers, without a row object for each: there may be very many."""


@dataclass(frozen=True)
class Credits:
    """Orders that stand and are put down to a delivery: to which, and why. Money is net.

    All others are left out: they are the most of a book.
    """

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
    """Of every order of the book, attributed once over campaigns and sequences alike."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    counting = loaded(application, ResultsSettings)
    return application.cache.of_parts(
        "credits",
        (snapshot.orders, snapshot.deliveries, snapshot.engagements, snapshot.codes),
        (now // 60, counting.window_days, counting.opens_count),
        lambda: _credits(application, snapshot, counting, now),
        2,
    )


def credits_from(application: Application, origin: Origin, days: Days) -> Credits:
    """Those of the messages that one campaign or sequence sent in some days."""
    sent = application.snapshot().deliveries
    rows = sent.span(days.low, days.high)
    code = application.snapshot().words.get(origin[0], -1)
    mine = (sent.origin[rows] == code) & (sent.origin_id[rows] == origin[1])
    return credits_of(application).of_deliveries(sent.key[rows][mine])


def of_deliveries(session: UnitOfWork, column: Any, deliveries: Ints) -> dict[int, Any]:
    """By delivery what one of its columns holds."""
    ids = np.unique(deliveries).tolist()
    found: dict[int, Any] = {}
    for start in range(0, len(ids), AT_ONCE):
        wanted = Delivery.id.in_(ids[start : start + AT_ONCE])
        found |= dict(session.execute(select(Delivery.id, column).where(wanted)).all())
    return found


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
    if only is None:
        rows = np.arange(int(np.searchsorted(orders.at, now, side="right")))
    else:
        rows = places_of(orders, np.asarray([only]), len(snapshot.people))
        rows = rows[orders.at[rows] <= now]
    rows = rows[orders.void_at[rows] > now]
    key, person, at = orders.key[rows], orders.person[rows], orders.at[rows]
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
    by_code = _by_code(application, key)
    delivery = np.where(by_code >= 0, by_code, delivery)
    reason = np.where(by_code >= 0, np.int32(Reason.CODE), reason)
    mine = np.flatnonzero(delivery >= 0)
    money = orders.net_money(rows[mine], now)
    return Credits(key[mine], person[mine], at[mine], money, delivery[mine], reason[mine])


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


def _by_code(application: Application, orders: Ints) -> Ints:
    """By order the delivery whose code was used with it, -1 where there is none."""
    with application.database.reading() as session:
        found = session.connection().exec_driver_sql(CODES_USED)
        used = np.array(list(map(tuple, found)), dtype=np.int64).reshape(-1, 2)
    if not len(used):
        return np.full(len(orders), -1, dtype=np.int64)
    # of several codes with one order the last one counts
    place = np.searchsorted(used[:, 0], orders, side="right") - 1
    near = used[np.maximum(place, 0)]
    return np.where((place >= 0) & (near[:, 0] == orders), near[:, 1], -1)
