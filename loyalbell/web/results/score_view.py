"""A sequence's score with what each message brought."""

from dataclasses import dataclass

from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.score import Score
from loyalbell.services.results.detail import StepFigures
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.storage.schema import Sequence
from loyalbell.web.request import RequestContext
from loyalbell.web.sequences import views as sheet


@dataclass(frozen=True)
class ScoreView:
    """``counts`` are the words under each message, by step."""

    score: Score
    counts: dict[str, list[str]]
    band: str
    begins: str


def score_view(context: RequestContext, sequence_id: int, steps: list[StepFigures]) -> ScoreView | None:
    """``None`` where no version of it is live or can be read."""
    sequence = context.application.find(Sequence, sequence_id)
    plan = sequence_queries.live_plan(context.application, sequence) if sequence is not None else None
    if plan is None:
        return None
    names = sequence_queries.plan_names(context.application)
    there = {step.id for step in p.every_step(plan.steps)}
    return ScoreView(
        sheet.score(plan, names),
        {figures.step: [_say(figures)] for figures in steps if figures.step in there},
        plan_words.say_exits(plan, names) if plan.exit_events or plan.exit_condition else "",
        sheet.short_start(plan.start),
    )


def _say(figures: StepFigures) -> str:
    """Such as ``88 of 580``: orders that followed, of people it was delivered to."""
    return f"{figures.orders:,} of {figures.delivered:,}"
