"""What is worth doing next, and what is not worth doing any more: from the shop's own rhythm and its own
measured results. Where nothing has been measured, it says so.
"""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import select

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.local_time import local_day
from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.history.snapshot import CONSENT_STATES, HistorySnapshot
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.results.came_back import Purchases
from loyalbell.core.results.lift import adjusted, any_time
from loyalbell.core.results.verdict import PLANNED, Verdict
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Rule, read_rule
from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.results.overview import RETURN_DAYS, ResultRow, compared_of, overview
from loyalbell.services.results.qualified import purchases_of
from loyalbell.services.results.ranges import USUAL, Days, days_of
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.segments.queries import saved_rules
from loyalbell.services.sequences.ready_made.making import Making
from loyalbell.storage.schema import Campaign, Segment

FEWEST = 20
"""Fewer people are not worth a card (a decision of ours)."""
QUIET_DAYS = 14
"""Whoever got a marketing message in so many days is left alone for now."""
LOOKS_BACK = (60, 120, 180, 240)
"""Days ago at which it is looked how many of such people came back."""
HELD_BACK = 20
UNUSED_AFTER = timedelta(days=180)
MOST = 4


@dataclass(frozen=True)
class Kind:
    """``who`` in words for one and for many people; ``template`` is the message to begin with."""

    key: str
    one: str
    many: str
    segment: str
    lines: tuple[dict[str, Any], ...]
    template: str

    @property
    def rule(self) -> Rule:
        return read_rule({"version": 1, "root": {"match": "all", "lines": list(self.lines)}})


def _last(days: int) -> dict[str, Any]:
    return {"kind": "last days", "days": days}


KINDS = (
    Kind(
        "late-regulars",
        "regular is late",
        "regulars are late",
        "Regulars who are late",
        ({"about": "band", "bands": ["late"]}, {"about": "orders", "value": 3}),
        "win-back",
    ),
    Kind(
        "quiet",
        "customer has gone quiet",
        "customers have gone quiet",
        "Customers who have gone quiet",
        ({"about": "band", "bands": ["quiet"]}, {"about": "orders", "value": 2}),
        "win-back",
    ),
    Kind(
        "second-order",
        "customer bought once, one to four months ago",
        "customers bought once, one to four months ago",
        "Bought once, one to four months ago",
        (
            {"about": "orders", "comparison": "exactly", "value": 1},
            {"about": "orders", "comparison": "exactly", "value": 0, "period": _last(30)},
            {"about": "orders", "value": 1, "period": _last(120)},
        ),
        "second",
    ),
)


@dataclass(frozen=True)
class Opening:
    """Something worth doing. ``baseline``: the share who come back in ``RETURN_DAYS`` days as things are.

    ``added`` is from how many to how many orders more, by the shop's own measured ``like``; ``None`` where
    nothing like it has been measured. ``money`` is the best estimate, in minor units.
    """

    kind: Kind
    people: int
    baseline: float
    like: str
    added: tuple[int, int] | None
    money: int

    @property
    def who(self) -> str:
        return self.kind.one if self.people == 1 else self.kind.many


@dataclass(frozen=True)
class NotWorth:
    """Something that is not worth doing any more, or cannot be judged; ``href`` is where to change it."""

    words: str
    why: str
    href: str


@dataclass(frozen=True)
class NextSteps:
    openings: list[Opening]
    not_worth: list[NotWorth]


def next_steps(application: Application, wait: bool = False) -> NextSteps | None:
    """Worked out once a day in the background; ``None`` while it is."""
    shop = application.shop()
    if shop is None:
        return None
    today = local_day(application.clock.now(), shop.zone)
    nothing = NextSteps([], [])

    def work() -> NextSteps:
        return worked_out(application)

    return application.background.get("next steps", today, work, nothing, most=2, wait=wait)


def worked_out(application: Application) -> NextSteps:
    """From the book as it is now. Raises ``RuleProblem``."""
    snapshot = application.snapshot()
    now = application.clock.now()
    shop = application.the_shop()
    table = overview(application, days_of(USUAL, now.date(), shop.zone))
    measured = _measured(table.rows)
    purchases = purchases_of(application)
    free = may_be_written_to(snapshot, int(now.timestamp()), QUIET_DAYS)
    with application.database.reading() as session:
        segments = saved_rules(session)
    found = []
    for kind in KINDS:
        here = evaluate(kind.rule, snapshot, now, segments) & free
        if int(here.sum()) >= FEWEST:
            share = baseline(kind.rule, snapshot, purchases, now, segments)
            found.append(_opening(kind, here, share, measured, snapshot, int(now.timestamp())))
    found.sort(key=lambda one: (-one.money, -one.people))
    not_worth = [
        *_not_worth(table.rows),
        *_costs_more(application, table.rows, table.days),
        *_unused_segments(application),
    ]
    return NextSteps(found[:MOST], not_worth[:MOST])


def _measured(rows: list[ResultRow]) -> ResultRow | None:
    """The result with an interval that leans on the most people, of those that added something."""
    sure = [row for row in rows if row.judged.verdict is Verdict.ADDED]
    return max(sure, key=lambda row: row.treated + row.held, default=None)


def may_be_written_to(snapshot: HistorySnapshot, now: int, quiet_days: int) -> Mask:
    """Agreed to email or text, on file, and not written to in the last ``quiet_days`` days."""
    can = np.zeros(len(snapshot.people), dtype=np.bool_)
    rows = snapshot.consents.taken(snapshot.consents.span(-(2**61), now))
    for channel in ("email", "text"):
        code = CHANNELS.index(channel)
        mine = rows.taken(rows.channel == code)
        state = np.zeros(len(can), dtype=np.int32)
        state[mine.person] = mine.state
        can |= (state == CONSENT_STATES.index("agreed")) & snapshot.people.has_address[:, code]
    lately = snapshot.deliveries.span(now - quiet_days * DAY, now)
    if quiet_days:
        can[snapshot.deliveries.person[lately]] = False
    return can & snapshot.on_file(now)


def baseline(
    rule: Rule, snapshot: HistorySnapshot, purchases: Purchases, now: datetime, segments: Any
) -> float:
    """The share of such people who came back in the past, with whatever they got then."""
    came = of = 0
    for days in LOOKS_BACK:
        then = now - timedelta(days=days)
        people = np.flatnonzero(evaluate(rule, snapshot, then, segments)).astype(np.int32)
        at: Ints = np.full(len(people), int(then.timestamp()), dtype=np.int64)
        came += int((purchases.between(people, at, at + RETURN_DAYS * DAY)[0] > 0).sum())
        of += len(people)
    return came / of if of else 0.0


def _opening(
    kind: Kind, here: Mask, baseline: float, like: ResultRow | None, snapshot: HistorySnapshot, now: int
) -> Opening:
    people = int(here.sum())
    interval = like.judged.interval if like is not None else None
    if like is None or interval is None:
        return Opening(kind, people, baseline, "", None, 0)
    # more than those who would not come by themselves cannot be brought back
    most = 1 - baseline
    low, best, high = (max(0.0, min(bound, most)) * people for bound in interval)
    rows = snapshot.orders.span(now - 365 * DAY, now)
    mine = here[snapshot.orders.person[rows]] & snapshot.orders.counted(rows, now)
    money = snapshot.orders.net_money(rows, now)[mine]
    typical = float(np.median(money)) if len(money) else 0.0
    return Opening(kind, people, baseline, like.name, (round(low), round(high)), round(best * typical))


def _not_worth(rows: list[ResultRow]) -> list[NotWorth]:
    found = []
    for row in rows:
        if row.origin[0] != "sequence" or row.state != "live":
            continue
        href = f"/sequences/{row.origin[1]}"
        if row.judged.verdict is Verdict.NO_DIFFERENCE:
            words, why = f"“{row.name}” makes no difference", "Change it, or pause it."
            found.append(NotWorth(words, why, href))
        elif row.judged.verdict is Verdict.COST:
            found.append(NotWorth(f"“{row.name}” keeps people away", "Pause it and look at it.", href))
        elif row.judged.verdict is Verdict.NOBODY_HELD and row.orders >= FEWEST and row.is_marketing:
            words = f"Nobody knows what “{row.name}” adds"
            why = f"{row.orders:,} orders followed it in a year. Hold some people back to see what it earns."
            found.append(NotWorth(words, why, href))
    return found


def _costs_more(application: Application, rows: list[ResultRow], days: Days) -> list[NotWorth]:
    """Whose texts and offers cost more than what it adds at best."""
    found = []
    for row in rows:
        if row.origin[0] != SEQUENCE or row.state != "live" or not row.cost or row.judged.interval is None:
            continue
        treated, held = compared_of(application, row, days).money
        added = any_time(*adjusted(treated, held), PLANNED).times(len(treated))
        if added.high < row.cost:
            words = f"“{row.name}” costs more than it brings in"
            why = (
                "Even at best, what it adds is less than its texts and offers cost. Try it without the offer."
            )
            found.append(NotWorth(words, why, f"/results/sequence/{row.origin[1]}?days=year"))
    return found


def _unused_segments(application: Application) -> list[NotWorth]:
    """Made or changed long ago, and used by nothing that is on file."""
    before = application.clock.now() - UNUSED_AFTER
    with application.database.reading() as session:
        long_ago = (Segment.changed_at < before) & Segment.archived_at.is_(None)
        old = list(session.scalars(select(Segment).where(long_ago).order_by(Segment.name)))
    uses = segment_queries.uses_of(application, [segment.id for segment in old])
    for segment in old:
        if not uses.get(segment.id):
            words = f"Nobody needs the segment “{segment.name}”"
            why = "Nothing uses it, and nobody has changed it in half a year. Delete it, or write to it."
            return [NotWorth(words, why, f"/segments/{segment.id}")]
    return []


class CannotDraft(ValueError):
    """Why no draft can be made, in words."""


def make_draft(application: Application, key: str, by: str) -> int:
    """A campaign, ready to be looked at, to such people as are meant. Returns its id.

    Its segment and its message are kept under their names, or taken where they are there. Raises
    ``CannotDraft``.
    """
    kind = next((one for one in KINDS if one.key == key), None)
    if kind is None:
        raise CannotDraft("There is no such suggestion any more. Look at the list again.")
    with application.database.reading() as session:
        there = session.query(Segment).filter(Segment.name == kind.segment).first()
    segment = there.id if there else segment_commands.keep(application, None, kind.segment, kind.rule, by)
    message = Making(application, by).letter(kind.template)
    day = application.clock.now().astimezone(UTC).date()
    name = _free_name(application, f"{kind.segment}, {day.isoformat()}")
    try:
        made = campaign_commands.draft_campaign(application, name, segment, message, by)
    except CannotSend as problem:
        raise CannotDraft(str(problem)) from problem
    with application.database.reading() as session:
        plan = plan_of(session.get_one(Campaign, made))
    campaign_commands.change_plan(application, made, plan.model_copy(update={"held_back": HELD_BACK}))
    return made


def _free_name(application: Application, name: str) -> str:
    with application.database.reading() as session:
        taken = {one for (one,) in session.query(Campaign.name)}
    return next(one for one in (name, *(f"{name} ({at})" for at in range(2, 1_000))) if one not in taken)
