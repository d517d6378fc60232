"""One campaign or sequence: what it added week by week, each step, and why messages were not delivered."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.zones import DAY
from loyalbell.core.policy.delivery_state import BOUNCED, FAILED, SENT, UNSURE, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE, Origin
from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.results.came_back import Compared
from loyalbell.core.results.lift import Interval, adjusted, mean_difference, share_difference
from loyalbell.core.results.sample_size import split_is_wrong
from loyalbell.core.results.verdict import Judged, judge
from loyalbell.core.sequences.plan import MessageStep, every_step
from loyalbell.core.sequences.steps.random_split import RandomSplitStep
from loyalbell.services.application import Application
from loyalbell.services.results.by_a_person import BY_A_PERSON
from loyalbell.services.results.credits import credits_from, of_deliveries
from loyalbell.services.results.overview import ResultRow, compared_of
from loyalbell.services.results.qualified import plan_of_sequence
from loyalbell.services.results.ranges import Days
from loyalbell.storage.schema import Delivery, DeliveryEvent, Message, MessageVersion

LEAST_WEEKS = 2
ACTS = ("opened", "clicked", "replied", "refused")


@dataclass(frozen=True)
class WeekStand:
    """What was known at the end of a week: ``week`` counts from 1."""

    week: int
    judged: Judged


@dataclass(frozen=True)
class StepFigures:
    """One message step: people it was delivered to, and how many of them did what. Money in minor units.

    ``arm`` is the arm by lot in which it stands; empty where everybody comes past it.
    """

    step: str
    message: str
    arm: str
    channels: tuple[str, ...]
    delivered: int
    acts: dict[str, int]
    orders: int
    revenue: int

    def share(self, act: str) -> float | None:
        return self.acts[act] / self.delivered if self.delivered else None


@dataclass(frozen=True)
class Detail:
    """``shares``: the interval of the shares by Newcombe's method; ``money``: of what each person spent, by
    Welch's, narrowed by what they spent before; both only where both groups are large enough.
    """

    compared: Compared
    weeks: list[WeekStand]
    shares: Interval | None
    money: Interval | None
    steps: list[StepFigures]
    causes: list[tuple[str, str, int]]
    is_split_wrong: bool

    @property
    def certain_since(self) -> int | None:
        """The first week from which on its verdict is the one of today, where there is an interval."""
        if not self.weeks or self.weeks[-1].judged.verdict.value not in ("added", "cost"):
            return None
        last, since = self.weeks[-1].judged.verdict, None
        for week in reversed(self.weeks):
            if week.judged.verdict is not last:
                break
            since = week.week
        return since


def detail(application: Application, row: ResultRow, days: Days) -> Detail:
    """Of one row of the table, in its days; kept while the book and the hour stand."""
    return application.cache.of_version(
        "detail",
        application.snapshot().version,
        (int(application.clock.now().timestamp()) // 3_600, row.origin, days, row.judged.worth),
        lambda: _detail(application, row, days),
        24,
    )


def steps_of(application: Application, origin: Origin, days: Days) -> list[StepFigures]:
    """What each message step of a campaign or sequence brought in some days; kept while the book and the hour
    stand.
    """

    def work() -> list[StepFigures]:
        with application.database.reading() as session:
            return _steps(application, session, origin, days)

    hour = int(application.clock.now().timestamp()) // 3_600
    return application.cache.of_version(
        "steps", application.snapshot().version, (hour, origin, days), work, 24
    )


def _detail(application: Application, row: ResultRow, days: Days) -> Detail:
    now = int(application.clock.now().timestamp())
    compared = compared_of(application, row, days)
    treated, held = compared.shares
    enough = min(len(treated), len(held)) >= 2
    shares = (
        share_difference(int(treated.values.sum()), len(treated), int(held.values.sum()), len(held))
        if enough
        else None
    )
    with application.database.reading() as session:
        steps = _steps(application, session, row.origin, days)
        causes = _causes(session, row.origin, days)
        share = _held_share(application, session, row.origin)
    return Detail(
        compared,
        _weeks(compared, days, now, row.judged.worth),
        shares,
        mean_difference(*adjusted(*compared.money)) if enough else None,
        steps,
        causes,
        share > 0 and split_is_wrong((len(treated), len(held)), (100 - share, share)),
    )


def _weeks(compared: Compared, days: Days, now: int, worth: float) -> list[WeekStand]:
    """Week by week from when the first of them was over; the last one is today."""
    if not len(compared.who):
        return []
    begins = max(days.low, int(compared.who.at.min()))
    ends = min(days.high, now)
    instants = range(begins + 7 * DAY, ends + compared.days * DAY + 7 * DAY, 7 * DAY)
    found = []
    for week, at in enumerate(instants, 1):
        stand = compared.until(min(at, now))
        found.append(WeekStand(week, judge(*stand.shares, worth)))
        if at >= now:
            break
    return found


def _held_share(application: Application, session: Session, origin: Origin) -> int:
    """Per cent that were to be held back; 0 where that is not known or has changed."""
    plan = plan_of_sequence(application, session, origin[1]) if origin[0] == SEQUENCE else None
    return plan.held_back if plan is not None else 0


def _steps(application: Application, session: Session, origin: Origin, days: Days) -> list[StepFigures]:
    """Counted by the database, group by group: a sequence may have sent a million messages."""
    mine = (Delivery.origin_kind == origin[0]) & (Delivery.origin_id == origin[1])
    within = mine & (Delivery.state == SENT) & Delivery.sent_at.between(*days.instants)
    people = dict(
        session.execute(
            select(Delivery.step, func.count(Delivery.person_id.distinct()))
            .where(within)
            .group_by(Delivery.step)
        ).all()
    )
    sent = session.execute(
        select(Delivery.step, Delivery.channel, Message.name, func.count())
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(within)
        .group_by(Delivery.step, Delivery.channel, Message.id)
    ).all()
    acts = session.execute(
        select(Delivery.step, DeliveryEvent.kind, func.count(Delivery.person_id.distinct()))
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(within, BY_A_PERSON)
        .group_by(Delivery.step, DeliveryEvent.kind)
    )
    did = {(step, kind): count for step, kind, count in acts}
    orders = _orders_of(application, session, origin, days)
    arms = _arms(application, session, origin)
    return [
        StepFigures(
            step,
            _most(sent, step),
            arms.get(step, ""),
            tuple(sorted({channel for of, channel, _, _ in sent if of == step})),
            people[step],
            {act: did.get((step, act), 0) for act in ACTS},
            *orders.get(step, (0, 0)),
        )
        for step in _in_order(application, session, origin, list(people))
    ]


def _most(sent: Sequence[Any], step: str) -> str:
    """The message that most got at a step."""
    counts: Counter[str] = Counter()
    for of, _, name, count in sent:
        if of == step:
            counts[name] += count
    return counts.most_common(1)[0][0]


def _orders_of(
    application: Application, session: Session, origin: Origin, days: Days
) -> dict[str, tuple[int, int]]:
    """Orders and their money (minor units) by step."""
    mine = credits_from(application, origin, days)
    steps = of_deliveries(session, Delivery.step, mine.delivery)
    found: dict[str, tuple[int, int]] = {}
    for delivery, money in zip(mine.delivery.tolist(), mine.money.tolist(), strict=True):
        step = steps[delivery]
        count, so_far = found.get(step, (0, 0))
        found[step] = (count + 1, so_far + money)
    return found


def _in_order(application: Application, session: Session, origin: Origin, steps: list[str]) -> list[str]:
    """As the plan has them; those that it has no longer come last."""
    plan = plan_of_sequence(application, session, origin[1]) if origin[0] == SEQUENCE else None
    planned = [one.id for one in every_step(plan.steps) if isinstance(one, MessageStep)] if plan else []
    return sorted(steps, key=lambda step: (planned.index(step) if step in planned else len(planned), step))


def _arms(application: Application, session: Session, origin: Origin) -> dict[str, str]:
    """By step the name of the arm by lot in which it stands."""
    plan = plan_of_sequence(application, session, origin[1]) if origin[0] == SEQUENCE else None
    found: dict[str, str] = {}
    for split in every_step(plan.steps) if plan is not None else ():
        if isinstance(split, RandomSplitStep):
            for at, arm in enumerate(split.arms, 1):
                found |= dict.fromkeys((one.id for one in every_step(arm.steps)), arm.name or f"arm {at}")
    return found


TECHNICAL = (BOUNCED, FAILED, UNSURE)


def _causes(session: Session, origin: Origin, days: Days) -> list[tuple[str, str, int]]:
    """(kind, cause in words, people): refused or failed at the other end, or withheld by one of our rules."""
    query = (
        select(Delivery.state, Delivery.cause, Delivery.detail, func.count(Delivery.person_id.distinct()))
        .where(
            Delivery.origin_kind == origin[0],
            Delivery.origin_id == origin[1],
            Delivery.state.in_((*TECHNICAL, WITHHELD)),
            Delivery.due_at.between(*days.instants),
        )
        .group_by(Delivery.state, Delivery.cause, Delivery.detail)
    )
    found: Counter[tuple[str, str]] = Counter()
    for state, cause, said, count in session.execute(query):
        if state == WITHHELD:
            found["withheld by a rule", CAUSE_WORDS.get(cause or "", cause or "not known")] += count
        else:
            found["not accepted", said or "no reason given"] += count
    return [(kind, words, count) for (kind, words), count in found.most_common()]
