"""A snapshot with one person in it, cut from the whole: the same rules give the same answer on it, only
sooner.
"""

from dataclasses import fields, replace
from functools import cached_property

import numpy as np

from loyalbell.core.history.columns import Ints, Rows
from loyalbell.core.history.snapshot import HistorySnapshot, People


class PersonSlices:
    """Where each person's rows stand, so that cutting one person out takes no look at the others."""

    def __init__(self, snapshot: HistorySnapshot) -> None:
        self.snapshot = snapshot

    @cached_property
    def _parts(self) -> dict[str, tuple[Ints, Ints]]:
        found = {}
        for field in fields(self.snapshot):
            part = getattr(self.snapshot, field.name)
            if isinstance(part, Rows) and len(part):
                order = np.argsort(part.person, kind="stable")
                bounds = np.searchsorted(part.person[order], np.arange(len(self.snapshot.people) + 1))
                found[field.name] = (order, bounds)
        return found

    def one(self, person: int) -> HistorySnapshot:
        """The ledger of a person number, who is number 0 in it."""
        people = self.snapshot.people
        row = slice(person, person + 1)
        cut: dict[str, Rows] = {}
        for name, (order, bounds) in self._parts.items():
            part = getattr(self.snapshot, name)
            mine = part.taken(order[bounds[person] : bounds[person + 1]])
            cut[name] = replace(mine, person=np.zeros(len(mine), dtype=np.int32))
        alone = People(**{field.name: getattr(people, field.name)[row] for field in fields(people)})
        return replace(self.snapshot, people=alone, **cut)  # type: ignore[arg-type]
