"""A ledger with one person in it, cut from the whole: the same rules give the same answer on it, only sooner."""

from dataclasses import fields, replace
from functools import cached_property

import numpy as np

from loyalbell.core.columns import Ints, Rows
from loyalbell.core.ledger import Ledger, People
from loyalbell.core.segments.model import (
    BandCondition,
    Group,
    Rule,
    ScoresCondition,
    SegmentCondition,
    TopCondition,
)

WHOLE_BOOK = (BandCondition, ScoresCondition, TopCondition)
"""Conditions that compare a person with the others, so that one person's rows are not enough."""


class Slices:
    """Where each person's rows stand, so that cutting one person out takes no look at the others."""

    def __init__(self, ledger: Ledger) -> None:
        self.ledger = ledger

    @cached_property
    def _parts(self) -> dict[str, tuple[Ints, Ints]]:
        found = {}
        for one in fields(self.ledger):
            part = getattr(self.ledger, one.name)
            if isinstance(part, Rows) and len(part):
                order = np.argsort(part.person, kind="stable")
                bounds = np.searchsorted(part.person[order], np.arange(len(self.ledger.people) + 1))
                found[one.name] = (order, bounds)
        return found

    def one(self, person: int) -> Ledger:
        """The ledger of a person number, who is number 0 in it."""
        people = self.ledger.people
        row = slice(person, person + 1)
        cut: dict[str, Rows] = {}
        for name, (order, bounds) in self._parts.items():
            part = getattr(self.ledger, name)
            mine = part.taken(order[bounds[person] : bounds[person + 1]])
            cut[name] = replace(mine, person=np.zeros(len(mine), dtype=np.int32))
        alone = People(**{one.name: getattr(people, one.name)[row] for one in fields(people)})
        return replace(self.ledger, people=alone, **cut)  # type: ignore[arg-type]


def asks_of_one(rule: Rule, segments: dict[int, Rule], within: tuple[int, ...] = ()) -> bool:
    """Whether the rule can be answered from one person's own rows."""
    return _of_one(rule.root, segments, within)


def _of_one(group: Group, segments: dict[int, Rule], within: tuple[int, ...]) -> bool:
    for line in group.lines:
        if isinstance(line, Group):
            if not _of_one(line, segments, within):
                return False
        elif isinstance(line, SegmentCondition):
            inner = segments.get(line.segment)
            if inner is None or line.segment in within:
                return False
            if not _of_one(inner.root, segments, (*within, line.segment)):
                return False
        elif isinstance(line, WHOLE_BOOK):
            return False
    return True
