"""A dry run: the same step function over the ledger with an invented clock, and acts that only count.

Nothing of one person depends on another, so that everybody is played through alone, one after the other.
"""

import gc
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from heapq import heappop, heappush, heapreplace

from loyalbell.core.sequences.chance import chance
from loyalbell.core.sequences.entry import HELD_BACK, first_position, kept_out
from loyalbell.core.sequences.facts import About, Known
from loyalbell.core.sequences.plan import MessageStep, WaitStep
from loyalbell.core.sequences.rehearsal import CameIn, Line, Out, Played, Refused, Rehearsal, Sent, StayedOut
from loyalbell.core.sequences.starts import Around, Crossing, crossings
from loyalbell.core.sequences.step import UNDER_WAY, Act, Position, step
from loyalbell.core.sequences.tree import Tree

NOTHING_AROUND = Around()
SENT_BY_OTHERS = -1
TOLD_EVERY = 500
Event = tuple[int, int, Crossing]
"""(instant, number of the play, who crossed its line), or a message that really went, for ``SENT_BY_OTHERS``."""


@dataclass(slots=True)
class Run:
    """One way of somebody through one sequence; ``number`` is of the order in which they came in."""

    play: int
    position: Position
    number: int
    channels: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Turn:
    """Whose turn it is, and what has happened to them so far. ``line``: (due, rank, number, run) as a heap."""

    person: int
    came: list[list[int]]
    sent: list[int] = field(default_factory=list)
    line: list[tuple[int, int, int, Run]] = field(default_factory=list)
    runs: int = 0
    run: Run | None = None


class _Stage:
    """What is the same for everybody. With ``noting``, diaries are kept."""

    def __init__(self, plays: Sequence[Played], known: Known, rates: Mapping[tuple[str, str], float], found: Rehearsal, noting: bool = False) -> None:  # fmt: skip
        self.plays, self.known, self.rates, self.found, self.noting = plays, known, rates, found, noting
        self.about = About(known, self._sent, self._did)
        self.turn = Turn(0, [])

    def _sent(self, person: int) -> Sequence[int]:
        return self.turn.sent

    def _did(self, person: int, step_id: str, did: str) -> bool:
        """What they would have done is drawn, by the shop's own rates; never looked up in the future."""
        assert self.turn.run is not None
        rate = self.rates.get((self.turn.run.channels.get(step_id, ""), did), 0.0)
        return chance(self.about.key, self.about.person_id, f"{did} {step_id}") < rate

    def play(self, person: int, events: Sequence[Event], standing: Sequence[tuple[int, Position]]) -> None:
        """Everything of one person in order of time; of what falls together, what happens goes before what is due."""
        turn = self.turn = Turn(person, [list(one.before.get(person, ())) for one in self.plays])
        for number, position in standing:
            self._begin(number, position)
        for event in events:
            self._go_on(event[0])
            self._happen(event)
        self._go_on(self.found.end + 1)
        self.found.under_way += len(turn.line)

    def _go_on(self, until: int) -> None:
        """Everything that is due before ``until``."""
        line = self.turn.line
        while line and line[0][0] < until:
            run = line[0][3]
            self._look(run)
            if run.position.state == UNDER_WAY:
                heapreplace(line, self._place(run))
            else:
                heappop(line)

    def _begin(self, number: int, position: Position) -> None:
        self.turn.runs += 1
        heappush(self.turn.line, self._place(Run(number, position, self.turn.runs)))

    def _place(self, run: Run) -> tuple[int, int, int, Run]:
        return run.position.due, self.plays[run.play].rank, run.number, run

    def _happen(self, event: Event) -> None:
        at, number, crossing = event
        if number == SENT_BY_OTHERS:
            self.turn.sent.append(at)
        else:
            self._come_in(number, crossing)

    def _come_in(self, number: int, crossing: Crossing) -> None:
        play, person, found = self.plays[number], crossing.person, self.found
        before = self.turn.came[number]
        about = self.about.turn(play.key, person, crossing.at)
        why = kept_out(play.tree.plan, crossing, before, about)
        if why is not None:
            found.stayed_out.append(StayedOut(crossing.at, number, person, why))
            return
        before.append(crossing.at)
        position = first_position(play.tree, crossing, play.key, about.person_id)
        self._note(crossing.at, number, "came in", "", position.state)
        if position.state != UNDER_WAY:
            found.stayed_out.append(StayedOut(crossing.at, number, person, position.state))
            return
        found.entered.append(CameIn(crossing.at, number, person))
        self._begin(number, position)

    def _look(self, run: Run) -> None:
        """To the next instant at which something is to be looked at, or out."""
        play, now, person = self.plays[run.play], run.position.due, self.turn.person
        self.turn.run = run
        position, acts = step(play.tree, run.position, self.about.turn(play.key, person, now), now)
        for act in acts:
            self._do(run, act)
        if play.tree.wakes:
            position = woken(play.tree, position, self.known, person, now, position.due)
        run.position = position
        if position.state == UNDER_WAY:
            return
        cause = position.cause or ""
        self.found.outs.append(Out(now, run.play, person, position.entered, position.state, cause, len(position.sent)))  # fmt: skip
        self._note(now, run.play, position.state, "", cause)

    def _do(self, run: Run, act: Act) -> None:
        found, person = self.found, self.turn.person
        if act.kind == "send":
            found.sent.append(Sent(act.at, run.play, person, act.step, act.detail))
            run.channels[act.step] = act.detail
            node = self.plays[run.play].tree.nodes[act.step].step
            if isinstance(node, MessageStep) and self.about.marketing(node.message or 0):
                self.turn.sent.append(act.at)
        elif act.kind == "arm":
            found.arms[(run.play, act.step, int(act.detail))] += 1
        elif act.kind == "refuse":
            found.refused.append(Refused(act.at, run.play, person, act.step, act.detail))
        self._note(act.at, run.play, act.kind, act.step, act.detail)

    def _note(self, at: int, play: int, what: str, step_id: str, detail: str) -> None:
        if self.noting:
            person = self.turn.person
            self.found.diaries.setdefault(person, []).append(Line(at, play, person, what, step_id, detail))


def rehearse(
    plays: Sequence[Played], known: Known, start: int, end: int, around: Around = NOTHING_AROUND,
    rates: Mapping[tuple[str, str], float] | None = None, already: Sequence[tuple[int, int]] = (),
    watched: int = 0, progress: Callable[[float], None] = lambda share: None,
) -> Rehearsal:  # fmt: skip
    """Plays the sequences side by side with ``start < at <= end``.

    ``already`` are (instant, person) of marketing messages that really went, which count towards the limits. ``rates``
    are shares by (channel, what) with which messages are opened, clicked and answered. The first ``watched`` people
    who come into the first sequence get a diary. Raises ``RuleProblem`` where a rule leans on what is not there.
    """
    found = Rehearsal(start, end)
    events = _events(plays, known, start, end, around, already)
    standing = _standing(plays)
    people = sorted(events.keys() | standing.keys())
    stage = _Stage(plays, known, rates or {}, found)
    with without_collecting():
        for number, person in enumerate(people):
            stage.play(person, events.get(person, ()), standing.get(person, ()))
            if number % TOLD_EVERY == 0:
                progress(number / len(people))
        found.in_order()
        again = _Stage(plays, known, rates or {}, Rehearsal(start, end), noting=True)
        for person in _watched(found, watched):
            again.play(person, events.get(person, ()), standing.get(person, ()))
    found.diaries = again.found.diaries
    return found


def _watched(found: Rehearsal, most: int) -> list[int]:
    """The first who come into the first sequence, those held back among them."""
    held = [(one.at, one.person) for one in found.stayed_out if one.play == 0 and one.cause == HELD_BACK]
    came = sorted([*held, *((one.at, one.person) for one in found.entered if one.play == 0)])
    return list(dict.fromkeys(person for _, person in came))[:most]


def _events(plays: Sequence[Played], known: Known, start: int, end: int, around: Around, already: Sequence[tuple[int, int]]) -> dict[int, list[Event]]:  # fmt: skip
    """What happens to each person, in order of time."""
    found: dict[int, list[Event]] = {}
    for at, person in already:
        if at <= end:
            found.setdefault(person, []).append((at, SENT_BY_OTHERS, Crossing(at, person, "", at)))
    for number, play in enumerate(plays):
        cross = play.crossed
        if cross is None:
            cross = crossings(play.tree.plan.start, known.ledger, start, end, around)
        for one in (*play.backlog, *cross):
            if one.at <= end:
                found.setdefault(one.person, []).append((one.at, number, one))
    for mine in found.values():
        mine.sort()
    return found


def _standing(plays: Sequence[Played]) -> dict[int, list[tuple[int, Position]]]:
    found: dict[int, list[tuple[int, Position]]] = {}
    for number, play in enumerate(plays):
        for person, position in play.standing:
            found.setdefault(person, []).append((number, position))
    return found


@contextmanager
def without_collecting() -> Iterator[None]:
    """Millions of small tuples without a cycle among them: looking for cycles would take a third of the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def woken(tree: Tree, position: Position, known: Known, person: int, after: int, by: int) -> Position:
    """A position that waits for something, woken at the instant at which that happened after ``after``, by ``by``."""
    node = tree.nodes.get(position.step or "")
    waits = node.step if node is not None else None
    if isinstance(waits, WaitStep) and waits.kind == "until event" and position.settled:
        happened = known.happened(waits.happening).first(person, after, min(by, position.due))
        if happened is not None:
            return position._replace(due=happened)
    return position
