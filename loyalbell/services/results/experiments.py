"""Every test: random forks of sequences and campaigns with several messages, how they stand and who won."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import exists, func, select
from sqlalchemy.orm import Session

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints
from loyalbell.core.policy.assignment import arm_of
from loyalbell.core.policy.delivery_state import SENT
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE, Origin
from loyalbell.core.results.came_back import Compared, Purchases, Qualified, compare
from loyalbell.core.results.experiment import Standing, standing
from loyalbell.core.results.lift import Outcomes
from loyalbell.core.sequences.plan import Plan, every_step, read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.steps.random_split import RandomSplitStep
from loyalbell.core.sequences.steps.wait import WaitStep
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.results.overview import RETURN_DAYS
from loyalbell.services.results.qualified import enrolments_of, plan_of_sequence, purchases_of
from loyalbell.services.sequences.commands import keep
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.services.settings.channels import ResultsSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Delivery, DeliveryEvent, Message, MessageVersion


@dataclass(frozen=True)
class ArmFigures:
    """One arm: ``share`` in per cent as drawn; people in it, and how many ``did`` what is measured."""

    name: str
    share: int
    people: int
    did: int

    @property
    def rate(self) -> float | None:
        return self.did / self.people if self.people else None


@dataclass(frozen=True)
class Experiment:
    """One test. ``step`` is empty for a campaign. ``measure``: came back (within ``days``), or clicked.

    ``is_open``: it can still be acted upon, as its sequence is live or its campaign has more rounds.
    """

    origin: Origin
    name: str
    step: str
    measure: str
    days: int
    arms: list[ArmFigures]
    standing: Standing
    is_open: bool

    @property
    def leader(self) -> ArmFigures:
        return self.arms[self.standing.leader]


def experiments(application: Application) -> list[Experiment]:
    """All that are under way or over, the largest first; kept while neither the book nor the hour changes."""
    worth = loaded(application, ResultsSettings).worth
    return application.cache.of_version(
        "experiments",
        application.snapshot().version,
        (_now(application) // 3_600, worth),
        lambda: _experiments(application, worth),
        2,
    )


def _experiments(application: Application, worth: float) -> list[Experiment]:
    purchases = purchases_of(application)
    with application.database.reading() as session:
        sequences = list(
            session.scalars(select(schema.Sequence).where(schema.Sequence.live_version_id.is_not(None)))
        )
        plans = {sequence.id: plan_of_sequence(application, session, sequence.id) for sequence in sequences}
        campaigns = list(session.scalars(select(Campaign).where(Campaign.started_at.is_not(None))))
        found = [
            made for campaign in campaigns if (made := _of_campaign(session, campaign, worth)) is not None
        ]
    for sequence in sequences:
        plan = plans[sequence.id]
        found += _of_sequence(application, sequence, plan, purchases, worth) if plan is not None else ()
    return sorted(found, key=lambda one: -sum(arm.people for arm in one.arms))


def of_origin(application: Application, origin: Origin) -> list[Experiment]:
    return [experiment for experiment in experiments(application) if experiment.origin == origin]


def _now(application: Application) -> int:
    return int(application.clock.now().timestamp())


def _of_sequence(
    application: Application, sequence: schema.Sequence, plan: Plan, purchases: Purchases, worth: float
) -> Iterator[Experiment]:
    """Forks that everybody comes past: what follows is counted from there, for as long as the longest arm
    waits and then as long as somebody has to come back.
    """
    tree = tree_of(plan)
    days = plan.goal.days if plan.goal is not None else RETURN_DAYS
    for step in every_step(plan.steps):
        path = tree.path_to(step.id)
        if not isinstance(step, RandomSplitStep) or not all(
            isinstance(one, WaitStep) for one, _ in path[:-1]
        ):
            continue
        longest = max(_waits_of(arm.steps) for arm in step.arms)
        within = days + round(longest / DAY)
        who = _at_fork(application, sequence, round(path[-1][1]))
        compared = compare(who, purchases, within, _now(application))
        people = application.snapshot().people.ids[compared.who.person].tolist()
        shares = [arm.share for arm in step.arms]
        drawn = np.array([arm_of(sequence.key, person, step.id, shares) for person in people], dtype=np.int64)
        names = [arm.name or f"arm {at}" for at, arm in enumerate(step.arms, 1)]
        arms = list(zip(names, shares, strict=True))
        yield _made(
            (SEQUENCE, sequence.id),
            sequence.name,
            step.id,
            compared,
            drawn,
            arms,
            worth,
            sequence.state == "live",
        )


def _waits_of(steps: tuple[object, ...]) -> float:
    """Seconds of the waits before the first step of an arm that does more."""
    waited = 0.0
    for step in steps:
        if not isinstance(step, WaitStep) or step.kind != "for":
            break
        waited += step.span.seconds
    return waited


def _at_fork(application: Application, sequence: schema.Sequence, waited: int) -> Qualified:
    """Each person the first time they came to a fork; those held back are left out."""
    everyone = enrolments_of(application.snapshot(), sequence.id)
    treated = everyone.taken(~everyone.is_held)
    moved = Qualified(treated.person, treated.at + waited, treated.is_held)
    return moved.first_of_each(0, _now(application))


def _made(
    origin: Origin,
    name: str,
    step: str,
    compared: Compared,
    drawn: Ints,
    arms: list[tuple[str, int]],
    worth: float,
    is_open: bool,
) -> Experiment:
    """``arms`` are their names with their shares in per cent; ``drawn`` the place of each person's arm."""
    outcomes = [compared.of(drawn == place) for place in range(len(arms))]
    figures = [
        ArmFigures(arm, share, len(mine), int(mine.values.sum()))
        for (arm, share), mine in zip(arms, outcomes, strict=True)
    ]
    stand = standing(outcomes, [share for _, share in arms], worth)
    return Experiment(origin, name, step, "came back", compared.days, figures, stand, is_open)


def _of_campaign(session: Session, campaign: Campaign, worth: float) -> Experiment | None:
    """Messages that were drawn by lot, by who clicked; ``None`` where there is one, or a segment each."""
    plan: CampaignPlan = plan_of(campaign)
    if not plan.variants or plan.parted_by != "share":
        return None
    messages = [campaign.message_id, *(variant.message for variant in plan.variants)]
    shares = [
        100 - sum(variant.share for variant in plan.variants),
        *(variant.share for variant in plan.variants),
    ]
    clicked = exists().where(DeliveryEvent.delivery_id == Delivery.id, DeliveryEvent.kind == "clicked")
    rows = session.execute(
        select(Delivery.person_id, MessageVersion.message_id, func.max(clicked))
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .where(Delivery.origin_kind == CAMPAIGN, Delivery.origin_id == campaign.id, Delivery.state == SENT)
        .group_by(Delivery.person_id)
    ).all()
    known = dict(session.execute(select(Message.id, Message.name).where(Message.id.in_(messages))).all())
    groups = [[float(did) for _, message, did in rows if message == one] for one in messages]
    arms = [
        ArmFigures(known.get(one, "a message that was deleted"), share, len(group), round(sum(group)))
        for one, share, group in zip(messages, shares, groups, strict=True)
    ]
    stand = standing([Outcomes.of(group) for group in groups], shares, worth)
    return Experiment(
        (CAMPAIGN, campaign.id), campaign.name, "", "clicked", 0, arms, stand, campaign.state == "scheduled"
    )


class CannotKeep(ValueError):
    """Why an arm cannot be made the only one, in words."""


def keep_only(application: Application, sequence_id: int, step: str, arm: int, by: str) -> None:
    """In a sequence's draft, one arm in the place of its random fork; it goes live when it is published.

    ``arm`` counts from 0. Raises ``CannotKeep``.
    """
    with application.database.reading() as session:
        sequence = session.get(schema.Sequence, sequence_id)
        plan = draft_of(sequence).model_dump(mode="json", by_alias=True) if sequence is not None else None
    if sequence is None or plan is None:
        raise CannotKeep("This sequence is no longer on file.")
    steps, is_found = _with_arm(plan["steps"], step, arm)
    if not is_found:
        raise CannotKeep("The draft of this sequence no longer holds that test. Change it there.")
    keep(application, sequence_id, sequence.name, read_plan(plan | {"steps": steps}), by)


def _with_arm(steps: list[dict[str, Any]], step: str, arm: int) -> tuple[list[dict[str, Any]], bool]:
    """The steps with the fork ``step`` replaced by one of its arms, and whether it was there."""
    found, is_there = list[dict[str, Any]](), False
    for one in steps:
        if one["id"] == step and one["do"] == "lot" and 0 <= arm < len(one["arms"]):
            found += one["arms"][arm]["steps"]
            is_there = True
            continue
        changed = dict(one)
        for place, inner in enumerate(one.get("arms", ())):
            within, is_inside = _with_arm(inner["steps"], step, arm)
            if is_inside:
                changed["arms"] = [*one["arms"][:place], inner | {"steps": within}, *one["arms"][place + 1 :]]
                is_there = True
        if one.get("otherwise"):
            changed["otherwise"], is_inside = _with_arm(one["otherwise"], step, arm)
            is_there = is_there or is_inside
        found.append(changed)
    return found, is_there
