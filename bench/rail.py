"""The rail of the sequence editor on the demo, after a change of the plan: until it answers, and until its
figures are there.
"""

import shutil
import statistics
import tempfile
import time
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from sqlalchemy import select

from bench.measure import Line
from loyalbell.core.sequences.plan import Plan
from loyalbell.demo.build import build_demo
from loyalbell.services.application import Application
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage import schema
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.server import collect_seldom

BOUND = 0.3
PAUSE = 0.1


def changed(application: Application, sequence_id: int, plan: Plan) -> tuple[float, float]:
    """Seconds of the longest answer, and until the figures are there, asking as the page does."""
    visit: Any = SimpleNamespace(application=application, visitor=SimpleNamespace(user_id=1))
    begin, longest = time.perf_counter(), 0.0
    while True:
        asked = time.perf_counter()
        found = rail.rail_soon(visit, plan, sequence_id, "bench", rail.rail_days(plan))
        longest = max(longest, time.perf_counter() - asked)
        if found is not None:
            return longest, time.perf_counter() - begin
        time.sleep(PAUSE)


def lines() -> list[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        application = build_demo(folder / "demo")
        collect_seldom()
        for days in (rehearsals.SHORT_DAYS, rehearsals.PAST_DAYS):
            rehearsals.others_sent(application, 0, days, wait=True)
        with application.database.reading() as session:
            plans = [(one.id, draft_of(one)) for one in session.scalars(select(schema.Sequence))]
        for sequence_id, plan in plans:
            changed(application, sequence_id, plan)
        took = [
            changed(application, at, plan.model_copy(update={"patience": plan.patience + 1}))
            for at, plan in plans
        ]
        application.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    size, there = f"{len(plans)} sequences of the demo", [figures for _, figures in took]
    answer, middle, last = max(answer for answer, _ in took), statistics.median(there), max(there)
    return [
        Line(
            "editor's rail answers, the slowest", size, answer, BOUND, "the bound", "below 1", answer < BOUND
        ),
        Line("its figures are there, median", size, middle, BOUND, "the bound", "below 1", middle < BOUND),
        Line("its figures are there, the slowest", size, last, BOUND, "the bound", "below 1", last < BOUND),
    ]
