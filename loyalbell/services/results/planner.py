"""What a comparison will be able to tell, before it begins."""

from dataclasses import dataclass

from loyalbell.core.results.came_back import Purchases
from loyalbell.core.results.sample_size import smallest_difference
from loyalbell.core.segments.model import Rule, RuleProblem
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
