"""What happens to the people already past the line when they are let in: messages by day, and where they pile
up, whatever the pace.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from itertools import islice

import numpy as np

from loyalbell.core.clock.pacing import Pace, instants
from loyalbell.core.clock.zones import DAY, zone_of
from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import Plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.rehearsal_figures import PileUp
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerHit, beyond
from loyalbell.services.application import Application, Progress
from loyalbell.services.rehearsal.rehearsals import made_of, reactions, really_sent
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.storage import schema
from loyalbell.storage.schema import Shop

MOST_PLAYED = 3_000
"""Of more people every k-th is played, and the figures are taken k times."""
LOOKS_AHEAD = timedelta(weeks=10)


@dataclass(frozen=True)
class BacklogForecast:
    """``days``: messages by local day (as a number, ``core/clock/zones.py``) from today to the last with any.

    ``refused`` are messages that would not be sent. ``nobody_returns``: it is as if nobody came back in
    between, so it is the most that can be.
    """

    people: int
    messages: int
    days: Mapping[int, int]
    refused: int
    pile_ups: tuple[PileUp, ...]
    is_estimate: bool

    @property
    def fullest(self) -> tuple[int, int] | None:
        """The day with most messages, and how many."""
        return max(self.days.items(), key=lambda pair: (pair[1], -pair[0]), default=None)


def forecast_backlog(
    application: Application, plan: Plan, sequence_id: int, pace: Pace | None, only: Ints | None = None
) -> BacklogForecast:
    """As if nobody came back meanwhile; of everybody past the line, or ``only`` of these person numbers.

    Raises ``RuleProblem``, ``NeverOpens``.
    """
    return application.work_out(_forecast, plan, sequence_id, pace, only)


def _forecast(
    application: Application,
    plan: Plan,
    sequence_id: int,
    pace: Pace | None,
    only: Ints | None,
    progress: Progress,
) -> BacklogForecast:
    snapshot, now = application.snapshot(), application.clock.now()
    at = int(now.timestamp())
    with application.database.reading() as session:
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        around, rates = around_of(session, policy), reactions(session, now)
        sequence = session.get_one(schema.Sequence, sequence_id)
        already = really_sent(session, now, [])
    past = beyond(plan, snapshot, at, around) if only is None else only
    if pace is None:
        times = np.full(len(past), at + 1)
    else:
        batches = -(-len(past) // pace.batch)
        let_in = list(islice(instants(at, pace, zone_of(snapshot.zone)), batches))
        times = np.repeat(let_in, pace.batch)[: len(past)]
    factor = max(1, -(-len(past) // MOST_PLAYED))
    end = int((now + LOOKS_AHEAD).timestamp()) + (int(times[-1]) - at if len(times) else 0)
    known = SequenceHistory(snapshot, policy, at - 800 * DAY, end)
    hits = tuple(
        TriggerHit(max(when, at + 1), person, "was beyond the line", max(when, at + 1))
        for when, person in zip(times[::factor].tolist(), past[::factor].tolist(), strict=True)
    )
    numbers = {person: number for number, person in enumerate(known.ids)}
    sent_before = sorted((when, numbers[who]) for when, who in already if who in numbers)
    scene = RehearsalScene(
        sequence.key, tree_of(plan), sequence.rank, backlog=hits, crossed=(), number=sequence_id
    )
    found = rehearse([scene], known, at, end, around, rates, sent_before, progress=progress)
    made = made_of(application, found, snapshot, 0, rates, max((end - at) // DAY, 1), 0)
    figures = made.figures
    return BacklogForecast(
        len(past),
        figures.messages * factor,
        {day.day: day.messages * factor for day in figures.days if day.messages},
        sum(count for _, _, count in figures.refused) * factor,
        tuple(_scaled(one, factor) for one in figures.pile_ups),
        factor > 1,
    )


def _scaled(one: PileUp, factor: int) -> PileUp:
    return PileUp(one.at, one.step, one.messages * factor, one.replies * factor, one.answers)
