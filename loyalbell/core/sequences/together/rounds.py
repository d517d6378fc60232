"""Everybody of a rehearsal played through at once: in every round the next thing of each.

Nothing of one person depends on another, and of one person one thing comes after the other in the order of
``simulator``: by instant; what happens before what is due; of what is due by wave, by rank of the sequence,
and by when they came in.
"""

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.engine import woken, woken_since
from loyalbell.core.sequences.engine_facts import PersonFacts, SequenceHistory
from loyalbell.core.sequences.rehearsal import (
    CameIn,
    Out,
    Refused,
    Rehearsal,
    RehearsalScene,
    Sent,
    StayedOut,
)
from loyalbell.core.sequences.together.answers import Answers
from loyalbell.core.sequences.together.entries import Crossings, Entries
from loyalbell.core.sequences.together.looks import Looks
from loyalbell.core.sequences.together.outcomes import Looked
from loyalbell.core.sequences.together.rehearsal_events import SENT_BY_OTHERS, RehearsalEvents
from loyalbell.core.sequences.together.runs import Columns, Runs, Spoken
from loyalbell.core.sequences.triggers import is_daily
from loyalbell.core.sequences.walk import ON_ITS_WAY, PASSED, UNDER_WAY, Act, Position

NOTHING = 2**62
"""An instant at which nothing is."""
SECONDS = 34
"""Bits for an instant that is not after the end, nor more than 272 years before the beginning."""


class Rounds:
    """Plays ``people`` (person numbers, ascending) into ``found``."""

    def __init__(
        self,
        plays: Sequence[RehearsalScene],
        known: SequenceHistory,
        rates: Mapping[tuple[str, str], float],
        found: Rehearsal,
        people: Sequence[int],
        events: RehearsalEvents,
        standing: Mapping[int, Sequence[tuple[int, Position]]],
    ) -> None:
        self.plays, self.known, self.found = plays, known, found
        self.answers, self.spoken = Answers(known, rates), Spoken()
        self.facts = PersonFacts(known, self.answers.sent.of, self._did)
        self.ranks = np.asarray([play.rank for play in plays], dtype=np.int64)
        self.entries = [Entries(play, self.answers, self.facts) for play in plays]
        self.told: set[tuple[int, int, str]] = set()
        self.events, self.next = events, events.first.copy()
        self.runs = Runs(len(events.at) + sum(len(standing.get(one, ())) for one in people))
        self.looks = [Looks(play, self.answers, self.facts, self.spoken, self.runs) for play in plays]
        stand = [(person, *one) for person in people for one in standing.get(person, ())]
        self.later: list[Ints] = []
        """Who is due only after the end."""
        self.live = self._before_the_end(np.asarray([self._stand(*one) for one in stand], dtype=np.int64))
        self.active = np.asarray(people, dtype=np.int64)

    def _did(self, person: int, step: str, did: str) -> bool:
        return self.answers.did(self.facts.key, person, step, did, self.facts.now)

    def _stand(self, person: int, number: int, position: Position) -> int:
        """Somebody who is under way at the beginning."""
        play = self.plays[number]
        facts = self.facts.turn(play.key, person, self.found.start)
        return self.runs.stand(person, number, woken_since(play.tree, position, facts.first), self.spoken)

    def play(self, progress: Callable[[float], None]) -> None:
        mine = self.active
        everything = max(1, self._ahead(mine))
        while len(self.active):
            self._round()
            progress(1 - self._ahead(mine) / everything)
        for row in np.concatenate((self.live, *self.later)).tolist():
            position = self.runs.position(row, self.spoken)
            self.found.standing.append((int(self.runs.play[row]), int(self.runs.person[row]), position))

    def _ahead(self, people: Ints) -> int:
        """How much has not happened yet."""
        return int((self.events.end[people] - self.next[people]).sum())

    def _round(self) -> None:
        """The next thing of everybody of whom there is one."""
        rows, at = self._next_due(), np.full(len(self.next), NOTHING, dtype=np.int64)
        at[self.runs.person[rows]] = self.runs.at.due[rows]
        due, events = at[self.active], self.next[self.active]
        waits = events < self.events.end[self.active]
        happens = np.full(len(self.active), NOTHING, dtype=np.int64)
        happens[waits] = self.events.at[events[waits]]
        comes, looks = (happens <= due) & waits, (due <= self.found.end) & (due < happens)
        looking = np.zeros(len(self.next), dtype=np.bool_)
        looking[self.active[looks]] = True
        rows, events = rows[looking[self.runs.person[rows]]], events[comes]
        self.next[self.active[comes]] += 1
        self.active = self.active[comes | looks]
        self._look(rows)
        self._happen(events)

    def _next_due(self) -> Ints:
        """Of everybody who is under way the run that comes first."""
        rows, runs = self.live, self.runs
        # person and instant as one number: sorted five times as quickly as by both
        key = (runs.person[rows] << SECONDS) + (runs.at.due[rows] - self.found.start + (1 << (SECONDS - 1)))
        order = np.argsort(key)
        rows, key = rows[order], key[order]
        people = key >> SECONDS
        first = np.ones(len(rows), dtype=np.bool_)
        first[1:] = people[1:] != people[:-1]
        places = np.flatnonzero(first)
        second = places[places + 1 < len(rows)] + 1
        at_once = second[key[second] == key[second - 1]]
        if not len(at_once):
            return rows[places]
        several = np.isin(people, people[at_once])
        return np.concatenate((rows[places[~several[places]]], self._first_of(rows[several])))

    def _first_of(self, rows: Ints) -> Ints:
        """Of each person the run that comes first where some are due at one instant."""
        runs = self.runs
        # a run's number is the order in which they came in
        order = np.lexsort(
            (rows, self.ranks[runs.play[rows]], runs.wave[rows], runs.at.due[rows], runs.person[rows])
        )
        rows = rows[order]
        first = np.ones(len(rows), dtype=np.bool_)
        first[1:] = runs.person[rows[1:]] != runs.person[rows[:-1]]
        return rows[first]

    def _happen(self, events: Ints) -> None:
        plays = self.events.play[events]
        for number in np.unique(plays).tolist():
            mine = events[plays == number]
            person, at = self.events.person[mine], self.events.at[mine]
            if number == SENT_BY_OTHERS:
                self.answers.sent.add(person, at)
            else:
                self._cross(number, Crossings(person, at, self.events.anchor[mine]))

    def _cross(self, number: int, crossings: Crossings) -> None:
        for rows, entry in self.entries[number].of(crossings):
            people, times = crossings.person[rows], crossings.at[rows]
            whose = list(zip(times.tolist(), people.tolist(), strict=True))
            if isinstance(entry, str):
                told = [(at, person) for at, person in whose if self._tells(number, person, entry)]
                self.found.stayed_out += [StayedOut(at, number, person, entry) for at, person in told]
                continue
            if is_daily(self.plays[number].tree.plan.start):
                for _, person in whose:
                    self.told |= {(number, person, "came in before"), (number, person, "came in lately")}
            if entry.state != UNDER_WAY:
                self.found.stayed_out += [StayedOut(at, number, person, entry.state) for at, person in whose]
                continue
            self.found.entered += [CameIn(at, number, person) for at, person in whose]
            begun = self.runs.begin(people, number, entry, times, crossings.anchor[rows], self.spoken)
            self.live = np.concatenate((self.live, begun))

    def _tells(self, number: int, person: int, why: str) -> bool:
        """As the simulator's."""
        if not is_daily(self.plays[number].tree.plan.start):
            return True
        known = (number, person, why) in self.told
        self.told.add((number, person, why))
        return not known

    def _look(self, rows: Ints) -> None:
        for number in np.unique(self.runs.play[rows]).tolist():
            mine = rows[self.runs.play[rows] == number]
            now = np.maximum(self.runs.at.due[mine], self.found.start)
            looked = self.looks[number].at(mine, now)
            for act, places in looked.acts:
                if act.kind == "arm" or act.at <= self.found.end:
                    self._do(number, act, mine[places])
            self._go_on(number, mine, now, looked)
        self.live = self._before_the_end(self.live[self.runs.at.state[self.live] == 0])

    def _before_the_end(self, rows: Ints) -> Ints:
        """The runs at which there is still to be looked; the others stand where they are."""
        ahead = self.runs.at.due[rows] > self.found.end
        self.later.append(rows[ahead])
        return rows[~ahead]

    def _do(self, number: int, act: Act, rows: Ints) -> None:
        found, play = self.found, self.plays[number]
        people = self.runs.person[rows]
        whose = list(zip(people.tolist(), self.runs.entered[rows].tolist(), strict=True))
        if act.kind == "send":
            found.sent += [
                Sent(act.at, number, person, act.step, act.detail, entered) for person, entered in whose
            ]
            letters = self.answers.letters.setdefault((play.key, act.step), {})
            letters.update((person, (act.at, act.detail)) for person, _ in whose)
            if self.facts.marketing(getattr(play.tree.nodes[act.step].step, "message", None) or 0):
                self.answers.sent.add(people, act.at)
        elif act.kind == "arm":
            found.arms[number, act.step, int(act.detail)] += len(rows)
        elif act.kind == "refuse":
            found.refused += [
                Refused(act.at, number, person, act.step, act.detail, entered) for person, entered in whose
            ]

    def _go_on(self, number: int, rows: Ints, now: Ints, looked: Looked) -> None:
        at, spoken = looked.at, self.spoken
        again = at.awaits == spoken.awaits[ON_ITS_WAY]
        # imagined to leave at its instant; the others who are due come before what follows, as in a tick
        pairs = at.sent[again] * (len(spoken.steps.things) + 1) + at.step[again]
        for pair in np.unique(pairs).tolist():
            sent, step = divmod(pair, len(spoken.steps.things) + 1)
            after = (*spoken.sent.things[sent], spoken.steps.things[step] or "")
            at.sent[np.flatnonzero(again)[pairs == pair]] = spoken.sent[after]
        at.awaits[again] = spoken.awaits[PASSED]
        waves = self.runs.wave[rows]
        self.runs.wave[rows] = np.where(again & (at.due <= now), waves + 1, 0)
        if self.plays[number].tree.wakes:
            self._wake(number, rows, now, looked)
        self.runs.at.put(rows, at)
        self._out(number, rows, now, at)

    def _out(self, number: int, rows: Ints, now: Ints, at: Columns) -> None:
        over = np.flatnonzero(at.state != 0)
        out, spoken = rows[over], self.spoken
        columns = (now[over], self.runs.person[out], self.runs.entered[out], at.state[over], at.cause[over])
        self.found.outs += [
            Out(
                left,
                number,
                person,
                entered,
                spoken.states.things[state],
                spoken.causes.things[cause] or "",
                len(spoken.sent.things[sent]),
            )
            for left, person, entered, state, cause, sent in zip(
                *(column.tolist() for column in (*columns, at.sent[over])), strict=True
            )
        ]

    def _wake(self, number: int, rows: Ints, now: Ints, looked: Looked) -> None:
        """Whoever waits for something that happens is due when it does."""
        play = self.plays[number]
        for place in np.flatnonzero(looked.at.settled & (looked.at.state == 0)).tolist():
            row = int(rows[place])
            facts = self.facts.turn(play.key, int(self.runs.person[row]), int(now[place]))
            before = looked.at.position(place, self.spoken, 0, 0)
            after = woken(play.tree, before, facts.first, int(now[place]), before.due)
            looked.at.due[place] = after.due
