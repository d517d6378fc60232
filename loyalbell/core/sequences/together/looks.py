"""Looks at many people of one sequence, those alike together.

Everything that a look can depend on is either part of where somebody stands, or is asked about them. So the
answers to whatever has been asked at a step so far part the people who stand there into groups; one of each
is looked at by the engine, and the others do the same. Where that look asks what has not been asked before,
the groups are made anew.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.engine import step, stopped
from loyalbell.core.sequences.engine_facts import PersonFacts
from loyalbell.core.sequences.plan import OnDate, WaitStep
from loyalbell.core.sequences.plan_tree import Node
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.steps import TYPES
from loyalbell.core.sequences.steps.wait import ManyWait, has_its_own_time
from loyalbell.core.sequences.together.answers import Answers
from loyalbell.core.sequences.together.groups import grouped, parted
from loyalbell.core.sequences.together.outcomes import Looked, Outcome, Outcomes
from loyalbell.core.sequences.together.questions import (
    ANCHOR,
    ARRIVED,
    DUE,
    ENTERED,
    AskedFacts,
    LooksAlone,
    Question,
)
from loyalbell.core.sequences.together.runs import UNTRIED, Runs, Spoken
from loyalbell.core.sequences.walk import LEFT, UNDER_WAY, Act, Position, Walk

NONE = -1
FEW = 24
"""So many at a step are looked at one by one."""
MANY = 100
"""From so many on it is worth while to hand them through a step before they are looked at."""
ALIKE = 2
"""From so many on, people who are alike are looked at as one."""
Key = tuple[str | None, bool]


class Looks:
    """At people of one sequence. ``facts`` are of one person at a time, for whoever is looked at alone."""

    def __init__(
        self, play: RehearsalScene, answers: Answers, facts: PersonFacts, spoken: Spoken, runs: Runs
    ) -> None:
        self.play, self.answers, self.facts, self.spoken, self.runs = play, answers, facts, spoken, runs
        steps = [node.step for node in play.tree.nodes.values()]
        self._by_anchor = isinstance(play.tree.plan.start, OnDate) or any(
            isinstance(one, WaitStep) and one.kind == "until near" for one in steps
        )
        self._asked: dict[Key, list[Question]] = {}
        self._asked_of_stops: dict[bool, list[Question]] = {}
        self._alone: set[Key] = set()
        self._timed: set[str] = set()
        """Steps for which it matters when each is due."""
        self._asked_by: dict[str, list[Question]] = {}
        self._waits: dict[tuple[str, str], ManyWait] = {}
        self._kept: dict[tuple[Key, bytes], int] = {}
        self._outcomes = Outcomes(spoken)

    def at(self, rows: Ints, now: Ints) -> Looked:
        """Looks at different people, each at an instant of their own."""
        looked = Looked(self.runs.at.taken(rows))
        looks = _Look(self, rows, now, looked)
        asked = self.runs.wave[rows] > 0
        for standing in parted([looked.at.step, asked.astype(np.int64)]):
            here = self.spoken.steps.things[looked.at.step[standing[0]]]
            looks.from_step((here, bool(asked[standing[0]])), standing)
        return looked


@dataclass
class _Look:
    """One look at many: ``at`` are always places in ``rows``."""

    of: Looks
    rows: Ints
    now: Ints
    looked: Looked

    def from_step(self, key: Key, at: Ints, goes_on: bool = False) -> None:
        """``goes_on``: nothing stops them; they have come here by this very look."""
        node = self.of.play.tree.nodes.get(key[0] or "")
        if node is not None and isinstance(node.step, WaitStep) and node.step.kind == "for":
            at = self._wait(node.step, node.after, key[1], at, goes_on)
        elif node is not None and self._each_at_its_time(node, at):
            at = self._handed_on(node, key[1], at, goes_on)
        if len(at) <= FEW or key in self.of._alone:
            return self._one_by_one(at, key[1])
        while True:
            try:
                return self._in_groups(key, at)
            except _Asked as fresh:  # at least one question more each time, and there are so many in a plan
                self.of._asked[key] = [*self.of._asked.get(key, ()), *fresh.questions]
            except LooksAlone:
                self.of._alone.add(key)
                return self._one_by_one(at, key[1])

    def _answers(self, questions: Sequence[Question], at: Ints) -> list[Ints]:
        rows, runs = self.rows[at], self.of.runs
        person, entered = runs.person[rows], runs.entered[rows]
        key = self.of.play.key
        return [
            answer
            for asked in questions
            for answer in self.of.answers.of(asked, key, person, entered, self.now[at])
        ]

    def _in_groups(self, key: Key, at: Ints) -> None:
        """Raises ``_Asked`` where a look asks what was not asked before, and then changes nothing."""
        columns = [*self._standing(key, at), *self._answers(self.of._asked.get(key, ()), at)]
        place, firsts = grouped(columns)
        sizes = np.bincount(place)
        names = np.stack([column[firsts] for column in columns], axis=1)
        outcomes = np.zeros(len(firsts), dtype=np.int64)
        for group, first in enumerate(firsts.tolist()):
            name = (key, names[group].tobytes())
            known = self.of._kept.get(name, NONE if sizes[group] < ALIKE else None)
            if known is None:
                known = self.of._kept[name] = self.of._outcomes.add(self._as_one(key, int(at[first])))
            outcomes[group] = known
        mine = outcomes[place]
        together = mine != NONE
        self._all_do(at[together], mine[together])
        self._one_by_one(at[~together], key[1])

    def _standing(self, key: Key, at: Ints) -> list[Ints]:
        """All that a look depends on of where somebody stands."""
        of, now, rows = self.of, self.looked.at, self.rows[at]
        columns = [
            now.due[at],
            self.now[at],
            now.settled[at].astype(np.int64),
            np.where(now.settled[at], UNTRIED, now.tried[at]) if self._waits(key) else now.tried[at],
            now.sent[at],
            now.awaits[at],
            of.answers.zones(of.runs.person[rows]),
        ]
        return [*columns, of.runs.anchor[rows]] if of._by_anchor else columns

    def _waits(self, key: Key) -> bool:
        node = self.of.play.tree.nodes.get(key[0] or "")
        return node is not None and isinstance(node.step, WaitStep)

    def _as_one(self, key: Key, at: int) -> Outcome:
        """What somebody does, without what is their own."""
        of, row = self.of, int(self.rows[at])
        entered, anchor = int(of.runs.entered[row]), int(of.runs.anchor[row])
        asked = AskedFacts(self._facts(at), entered)
        position = self.looked.at.position(at, of.spoken, ENTERED, anchor if of._by_anchor else ANCHOR)
        if position.settled and self._waits(key):
            position = position._replace(tried=ARRIVED)
        outcome = step(of.play.tree, position, asked, int(self.now[at]), asked=key[1])
        fresh = [one for one in asked.asked if one not in of._asked.get(key, ())]
        if fresh:
            raise _Asked(fresh)
        return outcome

    def _all_do(self, at: Ints, outcomes: Ints) -> None:
        tried, done = self.looked.at.tried[at], self.of._outcomes
        after = done.at.taken(outcomes)
        after.tried = np.where(done.own_tried[outcomes], tried, after.tried)
        self.looked.at.put(at, after)
        for number in np.unique(outcomes[done.acting[outcomes]]).tolist():
            rows = at[outcomes == number]
            self.looked.acts += [(act, rows) for act in done.acts[number]]

    def _facts(self, at: int) -> PersonFacts:
        person = int(self.of.runs.person[self.rows[at]])
        return self.of.facts.turn(self.of.play.key, person, int(self.now[at]))

    def _one_by_one(self, at: Ints, asked: bool) -> None:
        of = self.of
        for one in at.tolist():
            row = int(self.rows[one])
            before = self.looked.at.position(
                one, of.spoken, int(of.runs.entered[row]), int(of.runs.anchor[row])
            )
            position, acts = step(of.play.tree, before, self._facts(one), int(self.now[one]), asked=asked)
            self.looked.at.note(one, position, of.spoken)
            self.looked.acts += [(act, np.asarray([one])) for act in acts]

    def _each_at_its_time(self, node: Node, at: Ints) -> bool:
        """Whether many are due here, and hardly two at one time."""
        if node.step.id in self.of._timed or len(at) < MANY:
            return False
        return len(np.unique(self.looked.at.due[at])) > len(at) // 4

    def _handed_on(self, node: Node, asked: bool, at: Ints, goes_on: bool) -> Ints:
        """Through one step that does not ask when each is due, as a lot or a note is, and on from there.
        Those for whom it could not be done.
        """
        of, now = self.of, self.looked.at
        coming = (now.awaits[at] == 0) & ~now.settled[at] & (now.due[at] <= self.now[at])
        others: Ints = at[~coming]
        at = at[coming] if goes_on else self._not_stopped(asked, at[coming])
        try:
            outcomes = self._through(node, at)
        except LooksAlone:
            of._timed.add(node.step.id)
            return np.concatenate((others, at))
        for group, walk in outcomes:
            for act in walk.acts:
                self.looked.acts += self._each_when_due(act, group)
            now.step[group], now.state[group] = of.spoken.steps[walk.here], of.spoken.states[walk.state]
            now.cause[group], now.tried[group] = of.spoken.causes[walk.cause], UNTRIED
            if walk.state == UNDER_WAY:
                self.from_step((walk.here, asked), group, goes_on=True)
        return others

    def _each_when_due(self, act: Act, at: Ints) -> list[tuple[Act, Ints]]:
        """What is done for each at the instant at which they are due. Of arms only their number is asked."""
        if act.kind == "arm":
            return [(act, at)]
        return [(act._replace(at=int(self.looked.at.due[one])), np.asarray([one])) for one in at.tolist()]

    def _through(self, node: Node, at: Ints) -> list[tuple[Ints, Walk]]:
        """What one step does to each; raises ``LooksAlone`` where it asks when they are due."""
        of, now = self.of, self.looked.at
        questions = of._asked_by.setdefault(node.step.id, [])
        while True:
            found: list[tuple[Ints, Walk]] = []
            fresh: list[Question] = []
            for group in parted([now.sent[at], *self._answers(questions, at)]) if len(at) else ():
                one = int(at[group[0]])
                facts = AskedFacts(self._facts(one), int(of.runs.entered[self.rows[one]]))
                sent = of.spoken.sent.things[now.sent[one]]
                place = Position(ENTERED, DUE, node.step.id, DUE, sent=sent)
                walk = Walk(of.play.tree, facts, int(self.now[one]), *place)
                TYPES[type(node.step)].run(walk, node)
                if walk.due is not DUE or walk.settled or walk.tried is not None or walk.awaits:
                    raise LooksAlone
                fresh += [asking for asking in facts.asked if asking not in (*questions, *fresh)]
                found.append((at[group], walk))
            if not fresh:
                return found
            questions += fresh

    def _wait(self, wait: WaitStep, then: str | None, asked: bool, at: Ints, goes_on: bool) -> Ints:
        """Whoever comes to a wait does so at a time of their own, so that hardly two would be alike: what
        ends the sequence is asked of all, and until when they wait is reckoned for all. Those who are not
        done then.
        """
        now, of = self.looked.at, self.of
        coming = ~now.settled[at] & (now.awaits[at] == 0) & (now.due[at] <= self.now[at])
        others: Ints = at[~coming]
        at = at[coming]
        if not len(at):
            return others
        at = at if goes_on else self._not_stopped(asked, at)
        until = np.zeros(len(at), dtype=np.int64)
        zones = of.answers.zones(of.runs.person[self.rows[at]])
        follows = of.play.tree.nodes.get(then or "")
        for mine in parted([zones]):
            zone = of.answers.known.zone(int(of.runs.person[self.rows[at[mine[0]]]]))
            if (wait.id, zone.name) not in of._waits:
                decides = follows is not None and has_its_own_time(follows.step)
                of._waits[wait.id, zone.name] = ManyWait(wait, zone, decides)
            until[mine] = of._waits[wait.id, zone.name](now.due[at[mine]])
        waits = until > self.now[at]
        there = at[waits]
        now.tried[there] = now.due[there]
        now.due[there], now.settled[there] = until[waits], True
        rest: Ints = np.concatenate((others, at[~waits]))
        return rest

    def _not_stopped(self, asked: bool, at: Ints) -> Ints:
        """Those whom nothing stops; the others have left."""
        of = self.of
        while True:
            questions = of._asked_of_stops.setdefault(asked, [])
            columns = [np.zeros(len(at), dtype=np.int64), *self._answers(questions, at)]
            stay: list[Ints] = []
            fresh: list[Question] = []
            left: list[tuple[Ints, str]] = []
            for group in parted(columns):
                one = int(at[group[0]])
                facts = AskedFacts(self._facts(one), int(of.runs.entered[self.rows[one]]))
                why = stopped(of.play.tree.plan, ENTERED, facts, int(self.now[one]), asked)
                fresh += [asking for asking in facts.asked if asking not in (*questions, *fresh)]
                if why is None:
                    stay.append(at[group])
                else:
                    left.append((at[group], why))
            if not fresh:
                break
            questions += fresh
        for group, why in left:
            self.looked.at.state[group] = of.spoken.states[LEFT]
            self.looked.at.cause[group] = of.spoken.causes[why]
            self.looked.at.awaits[group] = 0
        return np.concatenate(stay) if stay else at[:0]


class _Asked(Exception):
    def __init__(self, questions: list[Question]) -> None:
        self.questions = questions
