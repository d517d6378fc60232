"""What a comparison will be able to tell, before it begins."""

from dataclasses import dataclass
from math import ceil

from loyalbell.core.results.came_back import Purchases
from loyalbell.core.results.sample_size import people_needed, smallest_difference
from loyalbell.core.segments.model import Rule, RuleProblem
from loyalbell.core.sequences.plan import Plan, every_step
from loyalbell.core.sequences.rehearsal_figures import Figures
from loyalbell.core.sequences.steps.random_split import RandomSplitStep
from loyalbell.services.application import Application
from loyalbell.services.results.openings import baseline
from loyalbell.services.segments.queries import saved_rules


@dataclass(frozen=True)
class ComparisonPlan:
    """``base``: the share of such people who came back in 30 days in the past. ``smallest``: the least
    difference that will likely be seen; ``None`` where there are too few people for any.
    """

    people: int
    held: int
    base: float
    smallest: float | None


def plan_for(application: Application, rule: Rule, people: int, held: int) -> ComparisonPlan | None:
    """Of so many ``people``, of whom ``held`` are held back; ``None`` where nobody is, or everybody."""
    if not 0 < held < people:
        return None
    snapshot, now = application.snapshot(), application.clock.now()
    with application.database.reading() as session:
        segments = saved_rules(session)
    try:
        base = baseline(rule, snapshot, Purchases.of(snapshot.orders, int(now.timestamp())), now, segments)
    except RuleProblem:
        return None
    base = min(max(base, 0.005), 0.995)
    return ComparisonPlan(people, held, base, smallest_difference(base, people, held / people))


MOST_WEEKS = 52
"""A test that takes longer than a year is not worth waiting for (a decision of ours)."""


@dataclass(frozen=True)
class TestPlan:
    """How long one comparison of a sequence takes, told from its rehearsal.

    ``of`` is empty for the held-back group, else the names of the arms by lot. ``worth`` is the difference of
    shares that it is to show; ``people`` must qualify for that, which takes ``weeks`` at the rehearsed pace.
    """

    of: tuple[str, ...]
    worth: float
    people: int
    weeks: int

    @property
    def is_too_long(self) -> bool:
        return self.weeks > MOST_WEEKS


def plans_of_tests(plan: Plan, figures: Figures, days: int, worth: float) -> list[TestPlan]:
    """Of its held-back group and of each random split; empty where nothing is known of its people."""
    base, pace = figures.baseline.share, 7 * figures.people / days
    if base is None or not pace:
        return []
    base = min(max(base, 0.005), 0.995 - worth)

    def planned(of: tuple[str, ...], needed: float) -> TestPlan:
        return TestPlan(of, worth, ceil(needed), ceil(needed / pace))

    found = []
    if plan.held_back:
        found.append(planned((), people_needed(base, worth, plan.held_back / 100)))
    for step in every_step(plan.steps):
        if isinstance(step, RandomSplitStep):
            names = tuple(arm.name or f"arm {place}" for place, arm in enumerate(step.arms, 1))
            # the two smallest arms decide how long it takes
            first, second = sorted(arm.share for arm in step.arms)[:2]
            needed = people_needed(base, worth, first / (first + second)) * 100 / (first + second)
            found.append(planned(names, needed / (1 - plan.held_back / 100)))
    return found
