"""Crossings of many people at once: those alike come in, or stay out, together."""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.engine_facts import PersonFacts
from loyalbell.core.sequences.entry import Out, come_in
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.together.answers import Answers
from loyalbell.core.sequences.together.groups import parted
from loyalbell.core.sequences.together.questions import ANCHOR, ENTERED, AskedFacts, Question
from loyalbell.core.sequences.triggers import TriggerHit
from loyalbell.core.sequences.walk import Position

Entry = tuple[Ints, Out | Position]
"""Which of the crossings, and what comes of each: the cause that keeps it out, or where it begins."""


@dataclass
class Crossings:
    """Of different people; ``anchor`` is the instant that brought each."""

    person: Ints
    at: Ints
    anchor: Ints


class Entries:
    """Into one sequence."""

    def __init__(self, play: RehearsalScene, answers: Answers, facts: PersonFacts) -> None:
        self.play, self.answers, self.facts = play, answers, facts
        self._by_time = play.tree.plan.again.kind == "after"
        self._came: dict[int, list[int]] = {}
        self._been = np.zeros(len(answers.known.ids), dtype=np.bool_)
        self._been[[person for person, before in play.before.items() if before]] = True
        self._asked: list[Question] = []

    def of(self, crossings: Crossings) -> list[Entry]:
        """What comes of each; a position is without what is their own."""
        alone = self._been[crossings.person] if self._by_time else np.zeros(len(crossings.at), dtype=np.bool_)
        found = [self._one(crossings, row) for row in np.flatnonzero(alone).tolist()]
        rest = np.flatnonzero(~alone)
        while len(rest):
            entries = self._in_groups(crossings, rest)
            if entries is not None:
                found += entries
                break
        for rows, entry in found:
            if not isinstance(entry, str):
                self._came_in(crossings, rows)
        return found

    def _came_in(self, crossings: Crossings, rows: Ints) -> None:
        self._been[crossings.person[rows]] = True
        if self._by_time:
            for person, at in zip(crossings.person[rows].tolist(), crossings.at[rows].tolist(), strict=True):
                self._before(person).append(at)

    def _before(self, person: int) -> list[int]:
        if person not in self._came:
            self._came[person] = list(self.play.before.get(person, ()))
        return self._came[person]

    def _one(self, crossings: Crossings, row: int) -> Entry:
        play, person, at = self.play, int(crossings.person[row]), int(crossings.at[row])
        facts, hit = (
            self.facts.turn(play.key, person, at),
            TriggerHit(at, person, "", int(crossings.anchor[row])),
        )
        return np.asarray([row]), come_in(play.tree, hit, list(self._before(person)), facts)

    def _in_groups(self, crossings: Crossings, rows: Ints) -> list[Entry] | None:
        """``None`` where something was asked that was not asked before."""
        person, at = crossings.person[rows], crossings.at[rows]
        columns = [self._been[person].astype(np.int64)]
        for asked in self._asked:
            columns += self.answers.of(asked, self.play.key, person, at, at)
        found: list[Entry] = []
        fresh: list[Question] = []
        for group in parted(columns):
            one = int(group[0])
            facts = AskedFacts(self.facts.turn(self.play.key, int(person[one]), int(at[one])), int(at[one]))
            before = [0] if columns[0][one] else []
            entry = come_in(self.play.tree, TriggerHit(ENTERED, int(person[one]), "", ANCHOR), before, facts)
            fresh += [asking for asking in facts.asked if asking not in (*self._asked, *fresh)]
            found.append((rows[group], entry))
        self._asked += fresh
        return None if fresh else found
