"""What was brought in, as the pages list it."""

from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.storage.files.columns.file_targets import KINDS
from loyalbell.storage.schema import ImportRun


def newest_runs(application: Application, limit: int = 50) -> list[ImportRun]:
    """The imports, the newest first."""
    with application.database.reading() as session:
        return list(session.scalars(select(ImportRun).order_by(ImportRun.id.desc()).limit(limit)))


NOBODY = "no customer on file"
WAITING = ("new", "trying", "tried", "running")
FIRST = ("customers", "items", "orders", "order-lines")
"""Kinds that others refer to, in the order in which they are to be brought in."""


def in_order(runs: list[ImportRun]) -> list[ImportRun]:
    """Those that are not in the book yet, whom others refer to first."""
    places = (*FIRST, *(kind for kind in KINDS if kind not in FIRST))
    waiting = [run for run in runs if run.state in WAITING]
    return sorted(waiting, key=lambda run: (places.index(run.kind), run.id))


def needed_first(application: Application, run: ImportRun) -> ImportRun | None:
    """The file of customers that waits, where this one names people who are not on file."""
    nobody = any(group["cause"].endswith(NOBODY) for group in run.problems)
    if run.kind in FIRST[:2] or not nobody:
        return None
    return next((other for other in in_order(newest_runs(application)) if other.kind == FIRST[0]), None)
