"""For how many of an audience each field of messages is missing."""

import time
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application, Progress
from loyalbell.services.delivery.composing.merge_facts import field_facts
from loyalbell.storage.schema import Person, Shop

STEP = 5_000
MOST_LOOKED_AT, LOOKED_AT_OF_ALL = 10_000, 3_000
"""Of those whom a message is to reach, and of everyone on file: there it only says which fields are mostly
empty, and whoever opens a page waits for it (3,000 are right to a percent).
"""
KEPT_SECONDS = 60


@dataclass(frozen=True)
class Missing:
    """``missing`` by field, counted among ``looked_at`` of the ``people``, evenly taken.

    What has no entry is missing for all.
    """

    missing: dict[str, int]
    people: int
    looked_at: int

    @property
    def is_estimate(self) -> bool:
        return self.looked_at < self.people

    def of(self, name: str) -> int:
        """For how many of all it is missing; to two figures where only a part was looked at."""
        if name not in self.missing:
            return self.people
        if not self.is_estimate:
            return self.missing[name]
        reckoned = round(self.missing[name] * self.people / self.looked_at)
        return round(reckoned, 2 - len(str(reckoned)))


def missing_everywhere(application: Application, asked: frozenset[str] | None = None) -> Missing:
    """Of everyone on file, worked out at most once in ``KEPT_SECONDS``; of some fields only where they are
    ``asked``: that is quicker.
    """
    lately = (int(time.monotonic()) // KEPT_SECONDS, asked)

    def work() -> Missing:
        return application.work_out(_missing_everywhere, asked)

    same = (application.snapshot().version, "everywhere", asked)
    found: Missing | None = application.cache.peek("field coverage", same)
    return found or application.cache.get(
        "field coverage", same, lambda: application.cache.get("field coverage", lately, work)
    )


def _missing_everywhere(
    application: Application, asked: frozenset[str] | None, progress: Progress
) -> Missing:
    snapshot = application.snapshot()
    here = snapshot.on_file(int(application.clock.now().timestamp()))
    with application.database.reading() as session:
        ids = snapshot.people.ids[np.flatnonzero(here)].tolist()
        return missing(application, session, ids, asked, LOOKED_AT_OF_ALL)


def missing(
    application: Application,
    session: Session,
    ids: Sequence[int],
    asked: Collection[str] | None = None,
    most: int = MOST_LOOKED_AT,
) -> Missing:
    """Of ``ids``; where there are more than ``most``, by so many evenly among them."""
    step = max(1, len(ids) // most)
    looked = ids[::step]
    known: dict[str, int] = {}
    shop, now = session.get_one(Shop, 1), application.clock.now()
    for start in range(0, len(looked), STEP):
        people = list(session.scalars(select(Person).where(Person.id.in_(looked[start : start + STEP]))))
        for facts in field_facts(session, people, shop, now, asked).values():
            for name in facts:
                known[name] = known.get(name, 0) + 1
    return Missing({name: len(looked) - count for name, count in known.items()}, len(ids), len(looked))
