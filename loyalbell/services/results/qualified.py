"""Who qualified for what, and when: whole columns of the snapshot, kept while it and the hour stand."""

import json
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from datetime import timedelta
from typing import TypeVar

import numpy as np
from sqlalchemy import Text, select, type_coerce

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import Ints, Mask, Parted, Small, by_person_and_time
from loyalbell.core.history.snapshot import ENROLMENT_ENDS, HistorySnapshot
from loyalbell.core.policy.delivery_state import WITHHELD
from loyalbell.core.policy.holdout import Holdout, quarter_of
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE, Origin
from loyalbell.core.results.came_back import Purchases, Qualified
from loyalbell.core.sequences.event_rows import STANDING, EventRows, event_rows
from loyalbell.core.sequences.plan import Plan, plan_or_none
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.qualifying import seconds_for_everybody, seconds_until_anything
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.settings.channels import HoldoutSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import SequenceVersion

Found = TypeVar("Found")
HELD_BY_CAMPAIGNS = (
    "SELECT origin_id, person_id, due_at FROM delivery"
    f" WHERE state = '{WITHHELD}' AND cause = 'held back' AND origin_kind = '{CAMPAIGN}'"
)
"""As whole numbers, without a row object for each: there may be very many."""
DECIDE_SEQUENCES = frozenset(
    "people enrolments orders lines statuses walk_ins appointments memberships events answers tags".split()
)
"""Parts of the snapshot that say who came into a sequence, and whether they left before anything was done."""
MOST_KEPT = 500
"""Campaigns and sequences whose people are kept."""


@dataclass
class Qualifying:
    """Finds who qualified, at every time they did, treated or held back. Whoever got no marketing of any
    kind in that quarter is left out: they are compared elsewhere.
    """

    application: Application
    snapshot: HistorySnapshot = field(init=False)
    now: int = field(init=False)
    holdout: Holdout = field(init=False)
    _out: list[tuple[int, int, Mask]] = field(init=False)

    def __post_init__(self) -> None:
        self.snapshot = self.application.snapshot()
        self.now = int(self.application.clock.now().timestamp())
        self.holdout = loaded(self.application, HoldoutSettings).holdout
        self._out = self._left_out()

    def of(self, origin: Origin) -> Qualified:
        key = (origin, self.holdout.percent, tuple(sorted(self.holdout.fixed.items())))
        return self._kept(origin[0], key, lambda: self._without_left_out(self._everyone(origin)))

    def _kept(self, kind: str, key: Hashable, work: Callable[[], Found]) -> Found:
        """While what decides who qualified stands: for campaigns their deliveries, for sequences who came in
        and everything that may end it.
        """
        book = self.snapshot
        parts: tuple[object, ...] = (
            (book.people, book.deliveries)
            if kind == CAMPAIGN
            else tuple(part for name, part in vars(book).items() if name in DECIDE_SEQUENCES)
        )
        return self.application.cache.of_parts(
            f"qualified {kind}", parts, (self.now // 3_600, key), work, MOST_KEPT
        )

    def _everyone(self, origin: Origin) -> Qualified:
        return self._of_sequence(origin[1]) if origin[0] == SEQUENCE else self._of_campaign(origin[1])

    def _left_out(self) -> list[tuple[int, int, Mask]]:
        """(first, last instant, by person who is left out) of each quarter."""
        if self.holdout.since is None:
            return []
        zone = self.snapshot.zone
        found = []
        for begins, ends in self.holdout.quarters(local_day(self.application.clock.now(), zone)):
            low = int(start_of_day(begins, zone).timestamp())
            high = int(start_of_day(ends + timedelta(days=1), zone).timestamp())
            found.append((low, high, drawn_out(self.application, self.holdout, quarter_of(begins))))
        return found

    def _without_left_out(self, everyone: Qualified) -> Qualified:
        out = np.zeros(len(everyone), dtype=np.bool_)
        for low, high, drawn in self._out:
            out |= (everyone.at >= low) & (everyone.at < high) & drawn[everyone.person]
        return everyone.taken(~out)

    def _of_sequence(self, sequence_id: int) -> Qualified:
        mine = enrolments_of(self.snapshot, sequence_id)
        if not len(mine):
            return mine
        with self.application.database.reading() as session:
            sequence = session.get_one(schema.Sequence, sequence_id)
            plan = plan_of_sequence(self.application, session, sequence_id)
        if plan is None:
            return mine
        waits = self._waits(plan, sequence.key, mine.person)
        then = mine.at + waits
        stays = then <= self.now
        for stop in plan.exit_events if waits.any() else ():
            rows = event_rows(stop, self.snapshot, int(mine.at.min()) - 1, self.now)
            stays &= ~_happened_between(rows, mine.person, mine.at, then)
        return Qualified(mine.person, then, mine.is_held).taken(stays)

    def _waits(self, plan: Plan, key: str, person: Small) -> Ints:
        """By row the seconds until anything is done for its person. What is drawn for somebody stays."""
        tree = tree_of(plan)
        same = seconds_for_everybody(tree)
        if same is not None:
            return np.full(len(person), same, dtype=np.int64)
        drawn = self.application.cache.get("waits drawn", (key, plan.model_dump_json()), dict[int, int], 50)
        numbers, place = np.unique(person, return_inverse=True)
        ids = self.snapshot.people.ids[numbers].tolist()
        for one in ids:
            if one not in drawn:
                drawn[one] = seconds_until_anything(tree, key, one)
        return np.array([drawn[one] for one in ids], dtype=np.int64)[place]

    def _of_campaign(self, campaign_id: int) -> Qualified:
        """Whoever it left for, whatever became of it there, as those held back were drawn before that."""
        rows = self.snapshot.deliveries
        mine = self._kept(CAMPAIGN, "deliveries by number", lambda: Parted(rows.origin_id)).rows(campaign_id)
        mine = mine[rows.origin[mine] == self.snapshot.words.get(CAMPAIGN, -1)]
        of, held, at = self._kept(CAMPAIGN, "held back by campaigns", self._held_by_campaigns)
        here = of == campaign_id
        return Qualified(
            np.concatenate((rows.person[mine], held[here])),
            np.concatenate((rows.at[mine], at[here])),
            np.arange(len(mine) + int(here.sum())) >= len(mine),
        )

    def _held_by_campaigns(self) -> tuple[Ints, Small, Ints]:
        """Campaign, person number and instant of everybody whom a campaign held back."""
        with self.application.database.reading() as session:
            found = session.connection().exec_driver_sql(HELD_BY_CAMPAIGNS)
            rows = np.array(list(map(tuple, found)), dtype=np.int64).reshape(-1, 3)
        numbers = self.snapshot.number_of(rows[:, 1]).astype(np.int32)
        return rows[:, 0], numbers, rows[:, 2]


def purchases_of(application: Application) -> Purchases:
    """The orders that stand now, by person."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    return application.cache.of_parts(
        "purchases", (snapshot.orders,), now // 60, lambda: Purchases.of(snapshot.orders, now), 2
    )


def qualified_for(application: Application, origin: Origin) -> Qualified:
    """Who qualified for one campaign or sequence; see ``Qualifying``."""
    return Qualifying(application).of(origin)


def drawn_out(application: Application, holdout: Holdout, quarter: str) -> Mask:
    """By person number who is left out in a quarter."""
    ids = application.snapshot().people.ids

    def work() -> Mask:
        return np.array(holdout.draws_among(ids.tolist(), quarter), dtype=np.bool_)

    newest = int(ids[-1]) if len(ids) else 0
    key = (quarter, holdout.share(quarter), len(ids), newest)
    return application.cache.get("left out", key, work, 8)


def plan_of_sequence(application: Application, session: UnitOfWork, sequence_id: int) -> Plan | None:
    """The newest published plan, ``None`` where there is none or it cannot be read."""
    query = select(type_coerce(SequenceVersion.plan, Text)).where(SequenceVersion.sequence_id == sequence_id)
    text = session.scalar(query.order_by(SequenceVersion.number.desc()).limit(1))
    if text is None:
        return None
    return application.cache.get("plans as read", text, lambda: plan_or_none(json.loads(text)))


def enrolments_of(snapshot: HistorySnapshot, sequence_id: int) -> Qualified:
    """Everybody who came into a sequence or was held back from it, each time, from that instant."""
    enrolments = snapshot.enrolments
    mine = enrolments.taken(enrolments.sequence == sequence_id)
    return Qualified(mine.person, mine.at, mine.how == ENROLMENT_ENDS.index("held back"))


def _happened_between(rows: EventRows, person: Small, low: Ints, high: Ints) -> Mask:
    """Whether it happened to each with ``low < at <= high``, and still stood at ``high``."""
    stand = rows.until >= STANDING
    keys = np.sort(by_person_and_time(rows.person[stand], rows.at[stand]))
    first = np.searchsorted(keys, by_person_and_time(person, low), side="right")
    last = np.searchsorted(keys, by_person_and_time(person, high), side="right")
    found: Mask = last > first
    void = rows.taken(~stand)
    order = np.argsort(person, kind="stable")
    begin, end = (np.searchsorted(person[order], void.person, side=side) for side in ("left", "right"))
    each = end - begin
    # every pair of something undone later and a time of its person, one after the other
    which = np.repeat(np.arange(len(each)), each)
    pair = order[np.arange(len(which)) - np.repeat(np.cumsum(each) - each, each) + begin[which]]
    was = (low[pair] < void.at[which]) & (void.at[which] <= high[pair]) & (void.until[which] > high[pair])
    found[pair[was]] = True
    return found
