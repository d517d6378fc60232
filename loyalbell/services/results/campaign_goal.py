"""Where a campaign stands against its goal."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from loyalbell.core.campaigns.plan import CampaignGoal
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.results.campaign_results import Results


@dataclass(frozen=True)
class GoalStanding:
    """``did`` of ``reached`` people did it in time. ``until`` is when the last of them has had the time."""

    goal: CampaignGoal
    did: int
    reached: int
    until: datetime | None
    is_over: bool

    @property
    def share(self) -> float | None:
        return self.did / self.reached if self.reached else None

    @property
    def is_reached(self) -> bool:
        return self.share is not None and 100 * self.share >= self.goal.share


def goal_standing(application: Application, results: Results) -> GoalStanding | None:
    """``None`` where it has no goal. Each counts from their own message, the last where there were more."""
    goal = plan_of(results.campaign).goal
    if goal is None:
        return None
    got = {person: line.at for person, line in results.people["delivered"].items() if line.at is not None}
    span = timedelta(days=goal.days)
    did = [
        person
        for person, line in results.people[goal.what].items()
        if person in got and line.at is not None and line.at <= got[person] + span
    ]
    until = max(got.values()) + span if got else None
    return GoalStanding(
        goal, len(did), len(got), until, until is not None and until <= application.clock.now()
    )
