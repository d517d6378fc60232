"""A ledger with one person in it, cut from the whole: the same rules give the same answer on it, only sooner."""

from collections.abc import Iterator, Mapping
from dataclasses import fields, replace
from functools import cached_property

import numpy as np

from loyalbell.core.history.columns import Ints, Rows
from loyalbell.core.history.snapshot import HistorySnapshot, People
from loyalbell.core.segments.model import (
    BandCondition,
    Condition,
    Group,
    MessagesCondition,
    Rule,
    ScoresCondition,
    SegmentCondition,
    SequencesCondition,
    TopCondition,
)

WHOLE_BOOK = (BandCondition, ScoresCondition, TopCondition)
"""Conditions that compare a person with the others, so that one person's rows are not enough."""


OUR_DOING = (MessagesCondition, SequencesCondition)


class PersonSlices:
    """Where each person's rows stand, so that cutting one person out takes no look at the others."""

    def __init__(self, snapshot: HistorySnapshot) -> None:
        self.snapshot = snapshot

    @cached_property
    def _parts(self) -> dict[str, tuple[Ints, Ints]]:
        found = {}
        for one in fields(self.snapshot):
            part = getattr(self.snapshot, one.name)
            if isinstance(part, Rows) and len(part):
                order = np.argsort(part.person, kind="stable")
                bounds = np.searchsorted(part.person[order], np.arange(len(self.snapshot.people) + 1))
                found[one.name] = (order, bounds)
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
        alone = People(**{one.name: getattr(people, one.name)[row] for one in fields(people)})
        return replace(self.snapshot, people=alone, **cut)  # type: ignore[arg-type]


def asks_of_one(rule: Rule, segments: Mapping[int, Rule]) -> bool:
    """Whether the rule can be answered from one person's own rows."""
    return not any(one is None or isinstance(one, WHOLE_BOOK) for one in _conditions(rule.root, segments))


def asks_of_ours(rule: Rule, segments: Mapping[int, Rule]) -> bool:
    """Whether the rule asks for what we did ourselves: messages, ways through sequences."""
    return any(isinstance(one, OUR_DOING) for one in _conditions(rule.root, segments))


def _conditions(group: Group, segments: Mapping[int, Rule], within: tuple[int, ...] = ()) -> Iterator[Condition | None]:  # fmt: skip
    """All conditions, those of saved segments in their place; ``None`` for a segment that is not there or within itself."""
    for line in group.lines:
        if isinstance(line, Group):
            yield from _conditions(line, segments, within)
        elif not isinstance(line, SegmentCondition):
            yield line
        elif line.segment not in segments or line.segment in within:
            yield None
        else:
            yield from _conditions(segments[line.segment].root, segments, (*within, line.segment))
