"""Why a rehearsal over the past shows no message at all, in words: an empty picture that says nothing is
read as “it does nothing”.
"""

from collections.abc import Iterator
from datetime import datetime, timedelta

import numpy as np

from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.core.sequences.plan_words import say_date
from loyalbell.core.sequences.rehearsal_figures import Figures
from loyalbell.core.sequences.triggers import OF_THE_SHOP, beyond, trigger_hits
from loyalbell.services.application import Application
from loyalbell.services.rehearsal.forecast import WEEKS
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.storage.schema import Shop

DATES = {
    "renewal": "No membership renewed in the past {days} days: files tell only the next renewal.",
    "appointment": "There was no appointment in the past {days} days.",
}


def why_silent(application: Application, plan: p.Plan, figures: Figures, days: int) -> list[str]:
    """Sentences, the reason first; none where messages would have gone. Raises ``RuleProblem``."""
    return [] if figures.messages else list(_reasons(application, plan, figures, days))


def _reasons(application: Application, plan: p.Plan, figures: Figures, days: int) -> Iterator[str]:
    if not any(isinstance(step, p.MessageStep) for step in p.every_step(plan.steps)):
        yield "It has no message yet."
    elif isinstance(plan.start, p.ByHand):
        yield "Nobody comes in by themselves: you, or another program, add people."
    elif figures.entered:
        yield from _none_of_them(figures)
    elif figures.stayed_out:
        yield from (f"Stayed out: {people:,} ({OUT_WORDS[why]})." for why, people, _ in figures.stayed_out)
        yield from _who_would(application, plan)
    else:
        yield _nobody_crossed(plan.start, days)
        yield from _who_would(application, plan)


def _none_of_them(figures: Figures) -> Iterator[str]:
    if figures.refused:
        yield f"{figures.entered:,} came in, and each message was kept back: {_causes(figures)}."
    elif figures.early:
        yield f"{figures.entered:,} came in, and left before the first message."
    else:
        yield f"{figures.entered:,} came in; the first message comes later than this rehearsal reaches."


def _causes(figures: Figures) -> str:
    return "; ".join(f"{count:,} {CAUSE_WORDS.get(cause, cause)}" for cause, count in figures.refused_causes)


def _nobody_crossed(start: p.Start, days: int) -> str:
    if isinstance(start, p.OnDate):
        said = DATES.get(start.which, "Nobody had {date} in the past {days} days, of what is on file.")
        return said.format(days=days, date=say_date(start.which))
    if isinstance(start, p.OnSegment):
        way = {"joins": "joined", "leaves": "left", "is in": "was in"}[start.way]
        return f"Nobody {way} that segment in the past {days} days."
    return f"It did not happen to anybody in the past {days} days."


def _who_would(application: Application, plan: p.Plan) -> Iterator[str]:
    """Those past the line now, and those whose date is still ahead."""
    snapshot, now = application.snapshot(), application.clock.now()
    with application.database.reading() as session:
        around = around_of(session, send_policy_of(session, session.get_one(Shop, 1), now))
    past = len(beyond(plan, snapshot, int(now.timestamp()), around))
    if past:
        are = "person is" if past == 1 else "people are"
        yield f"{past:,} {are} past the line already and get it if you add them when you publish."
    start = plan.start
    if isinstance(start, p.OnDate):
        ahead = trigger_hits(start, snapshot, _second(now), _second(now + timedelta(weeks=WEEKS)), around)
        coming = np.unique([one.person for one in ahead]).astype(np.int64)
        if plan.only is not None:
            coming = coming[evaluate(plan.only, snapshot, now, around.segments)[coming]]
        people = len(coming)
        if people:
            when = "renew" if start.which == "renewal" else "have it"
            yield f"In the coming {WEEKS} weeks {people:,} {when}."
        elif start.which not in OF_THE_SHOP:
            yield "Ask customers for the date, or import it."


def _second(at: datetime) -> int:
    return int(at.timestamp())
