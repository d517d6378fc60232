"""All campaigns and sequences in one table: what each sent, brought, cost and added in some days."""

from dataclasses import dataclass
from math import ceil

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints, Parted, Small
from loyalbell.core.history.snapshot import Deliveries, HistorySnapshot
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE, Origin
from loyalbell.core.results.came_back import Compared, Purchases, Qualified, compare
from loyalbell.core.results.verdict import Judged, judge
from loyalbell.services.application import Application
from loyalbell.services.results.credits import credits_of
from loyalbell.services.results.qualified import Qualifying, plan_of_sequence, purchases_of, qualified_for
from loyalbell.services.results.ranges import Days
from loyalbell.services.settings.channels import ResultsSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery, Message, OfferCode, Redemption

RETURN_DAYS = 30
"""Within how many days somebody has come back, where no goal says otherwise."""
PARTS = 12
OVER = ("sent", "stopped")
"""States of a campaign that nobody qualifies for any more."""
MOST_WEEKS = 104
"""Beyond two years it is not said how long it takes: nobody waits for it."""
PACE_WEEKS = 13
"""The pace at which people qualify is taken from so many weeks."""
COLUMNS = ("name", "delivered", "came back", "orders", "revenue", "cost", "added")


@dataclass(frozen=True)
class ResultRow:
    """One campaign or sequence. ``delivered`` and ``came_back`` are people; money is in minor units.

    ``trend``: people who came back, by the part of the days in which they got their first message.
    ``weeks_to_go``: until it is likely decided, at today's pace; ``None`` where that cannot be said.
    ``is_marketing``: not all that it sent were service messages.
    """

    origin: Origin
    name: str
    state: str
    channels: tuple[str, ...]
    delivered: int
    came_back: int
    trend: tuple[int, ...]
    orders: int
    revenue: int
    cost: int
    days: int
    judged: Judged
    treated: int
    held: int
    weeks_to_go: int | None
    is_marketing: bool

    @property
    def added(self) -> float:
        """The best estimate of what it added, by the share of people; 0 where nothing is known."""
        return self.judged.interval.best if self.judged.interval else 0.0


@dataclass(frozen=True)
class Totals:
    """Of all rows; ``people`` are counted once."""

    people: int
    orders: int
    revenue: int
    cost: int


@dataclass(frozen=True)
class Overview:
    rows: list[ResultRow]
    totals: Totals
    days: Days


def overview(application: Application, days: Days) -> Overview:
    """Kept while neither the book nor the hour changes."""
    snapshot, hour = application.snapshot(), int(application.clock.now().timestamp()) // 3_600
    counting = loaded(application, ResultsSettings)
    return application.cache.of_version(
        "results",
        snapshot.version,
        (hour, days, counting.model_dump_json()),
        lambda: _Working(application, snapshot, days).overview(),
        12,
    )


def in_order(rows: list[ResultRow], by: str) -> list[ResultRow]:
    """By one of ``COLUMNS``, the largest first; names ascending."""
    if by == "name":
        return sorted(rows, key=lambda row: row.name.casefold())
    keys = {"came back": "came_back"}
    name = keys.get(by, by if by in COLUMNS else "delivered")
    return sorted(rows, key=lambda row: (-getattr(row, name), row.name.casefold()))


class _Working:
    """What the rows of one table share."""

    def __init__(self, application: Application, snapshot: HistorySnapshot, days: Days) -> None:
        self.application, self.snapshot, self.days = application, snapshot, days
        self.now = int(application.clock.now().timestamp())
        self.purchases = purchases_of(application)
        self.credits = credits_of(application)
        self.worth = loaded(application, ResultsSettings).worth
        self.qualifying = Qualifying(application)
        self.service: set[int] = set()
        self.sent = snapshot.deliveries.taken(snapshot.deliveries.span(days.low, min(days.high, self.now)))
        self.by_number = Parted(self.sent.origin_id)

    def overview(self) -> Overview:
        with self.application.database.reading() as session:
            names = self._names(session)
            costs = self._costs(session)
            self.service = set(session.scalars(select(Message.id).where(Message.purpose == "service")))
            goals = {
                origin: plan.goal.days
                for origin in names
                if origin[0] == SEQUENCE
                and (plan := plan_of_sequence(self.application, session, origin[1])) is not None
                and plan.goal is not None
            }
        every = [self._row(origin, *names[origin], costs, goals.get(origin, RETURN_DAYS)) for origin in names]
        rows = [row for row in every if row.delivered or row.treated or row.state in ("live", "paused")]
        ours = self.sent.taken(self._is_ours())
        total = Totals(
            len(np.unique(ours.person)),
            sum(row.orders for row in rows),
            sum(row.revenue for row in rows),
            sum(row.cost for row in rows),
        )
        return Overview(rows, total, self.days)

    def _is_ours(self) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        return np.isin(self.sent.origin, [self.snapshot.words.get(one, -1) for one in (CAMPAIGN, SEQUENCE)])

    def _names(self, session: Session) -> dict[Origin, tuple[str, str]]:
        """Name and state of everything that has gone out at least once, or is live."""
        campaigns = session.execute(
            select(Campaign.id, Campaign.name, Campaign.state).where(Campaign.started_at.is_not(None))
        )
        sequences = session.execute(
            select(schema.Sequence.id, schema.Sequence.name, schema.Sequence.state).where(
                schema.Sequence.live_version_id.is_not(None)
            )
        )
        found = {(SEQUENCE, number): (name, state) for number, name, state in sequences}
        return found | {(CAMPAIGN, number): (name, state) for number, name, state in campaigns}

    def _costs(self, session: Session) -> dict[Origin, int]:
        """What messages and the offers used with them cost, by origin, in minor units."""
        texts = select(Delivery.origin_kind, Delivery.origin_id, func.sum(Delivery.cost_minor))
        offers = (
            select(Delivery.origin_kind, Delivery.origin_id, func.sum(Redemption.cost_minor))
            .join(OfferCode, OfferCode.delivery_id == Delivery.id)
            .join(Redemption, Redemption.code_id == OfferCode.id)
        )
        found: dict[Origin, int] = {}
        for query in (texts.where(Delivery.cost_minor > 0), offers):
            grouped = query.where(Delivery.sent_at.between(*self.days.instants)).group_by(
                Delivery.origin_kind, Delivery.origin_id
            )
            for kind, number, cost in session.execute(grouped):
                found[kind, number] = found.get((kind, number), 0) + int(cost or 0)
        return found

    def _row(self, origin: Origin, name: str, state: str, costs: dict[Origin, int], days: int) -> ResultRow:
        mine = self._deliveries(origin)
        person, at = first_of_each(mine)
        came = self.purchases.between(person, at, np.minimum(at + days * DAY, self.now))[0] > 0
        credited = self.credits.of_deliveries(mine.key)
        everyone = self.qualifying.of(origin)
        compared = compared_in(everyone, self.purchases, self.days, days, self.now)
        judged = judge(*compared.shares, self.worth)
        return ResultRow(
            origin,
            name,
            state,
            tuple(CHANNELS[code] for code in np.unique(mine.channel).tolist()),
            len(person),
            int(came.sum()),
            self._trend(at[came]),
            len(credited.at),
            int(credited.money.sum()),
            costs.get(origin, 0),
            days,
            judged,
            len(compared.shares[0]),
            len(compared.shares[1]),
            None if state in OVER else weeks_to_go(judged, everyone, self.now),
            not set(np.unique(mine.message).tolist()) <= self.service,
        )

    def _deliveries(self, origin: Origin) -> Deliveries:
        rows = self.by_number.rows(origin[1])
        return self.sent.taken(rows[self.sent.origin[rows] == self.snapshot.words.get(origin[0], -1)])

    def _trend(self, at: Ints) -> tuple[int, ...]:
        edges = np.linspace(self.days.low, self.days.high + 1, PARTS + 1)
        return tuple(np.histogram(at, edges)[0].tolist())


def compared_in(everyone: Qualified, purchases: Purchases, within: Days, days: int, now: int) -> Compared:
    """Those who qualified within some days, and whose ``days`` to come back are over."""
    return compare(everyone.first_of_each(within.low, min(within.high, now)), purchases, days, now)


def compared_of(application: Application, row: ResultRow, within: Days) -> Compared:
    """The comparison behind one row of the table."""
    now = int(application.clock.now().timestamp())
    everyone = qualified_for(application, row.origin)
    return compared_in(everyone, purchases_of(application), within, row.days, now)


def first_of_each(rows: Deliveries) -> tuple[Small, Ints]:
    """Each person once, with the instant of their first message."""
    person, first = np.unique(rows.person, return_index=True)
    return person, rows.at[first]


def weeks_to_go(judged: Judged, everyone: Qualified, now: int) -> int | None:
    """Until as many more people have qualified as it takes, at the pace of the last weeks."""
    if judged.people_to_go is None:
        return None
    recent = everyone.at > now - PACE_WEEKS * 7 * DAY
    began = int(everyone.at.min()) if len(everyone) else now
    weeks = max(min(PACE_WEEKS, (now - began) / (7 * DAY)), 1)
    pace = len(np.unique(everyone.person[recent])) / weeks
    found = ceil(judged.people_to_go / pace) if pace > 0 else MOST_WEEKS + 1
    return found if found <= MOST_WEEKS else None
