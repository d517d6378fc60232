"""A dry run: the same step function over the ledger with an invented clock, and acts that only count."""

import gc
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from heapq import heapify, heappop, heappush
from typing import NamedTuple

from loyalbell.core.columns import NEVER
from loyalbell.core.sequences.chance import chance
from loyalbell.core.sequences.entry import first_position, kept_out
from loyalbell.core.sequences.facts import About, Known
from loyalbell.core.sequences.plan import MessageStep, WaitStep
from loyalbell.core.sequences.starts import Around, Crossing, crossings
from loyalbell.core.sequences.step import UNDER_WAY, Position, step
from loyalbell.core.sequences.tree import Tree
from loyalbell.core.zones import DAY

NOTHING_AROUND = Around()


@dataclass(frozen=True)
class Played:
    """A sequence in a rehearsal. ``key`` draws its arms; the lower ``rank`` goes first where two meet.

    ``backlog`` are crossings chosen by hand, beside those of its start; ``crossed`` are those of its start, where
    they have been found already; ``standing`` are (person, position) of those who are under way at the beginning.
    """

    key: str
    tree: Tree
    rank: int = 0
    backlog: tuple[Crossing, ...] = ()
    before: Mapping[int, Sequence[int]] = field(default_factory=dict)
    crossed: Sequence[Crossing] | None = None
    standing: Sequence[tuple[int, Position]] = ()


class Sent(NamedTuple):
    at: int
    play: int
    person: int
    step: str
    channel: str


class Line(NamedTuple):
    """One line of somebody's diary through a sequence: ``what`` is an act, or how they came in or went."""

    at: int
    play: int
    person: int
    what: str
    step: str
    detail: str


class Out(NamedTuple):
    """How somebody's way ended: ``state`` and ``cause``; ``messages`` they had got by then."""

    at: int
    play: int
    person: int
    entered: int
    state: str
    cause: str
    messages: int


@dataclass
class Rehearsal:
    """What would have happened from ``start`` to ``end``. Instants are whole seconds, people are person numbers."""

    start: int
    end: int
    sent: list[Sent] = field(default_factory=list)
    entered: list[tuple[int, int, int]] = field(default_factory=list)
    outs: list[Out] = field(default_factory=list)
    refused: Counter[tuple[int, str, str]] = field(default_factory=Counter)
    kept_out: Counter[tuple[int, str]] = field(default_factory=Counter)
    arms: Counter[tuple[int, str, int]] = field(default_factory=Counter)
    diaries: dict[int, list[Line]] = field(default_factory=dict)
    under_way: int = 0


@dataclass(slots=True)
class Run:
    """``number`` is of the order in which they came in."""

    play: int
    person: int
    position: Position
    number: int
    channels: dict[str, str] = field(default_factory=dict)


class WaitingLine:
    """Who is to be looked at next: by instant, by rank, in the order of coming in. One small heap a day keeps it quick."""

    def __init__(self) -> None:
        self._days: dict[int, list[tuple[int, int, int, Run]]] = {}
        self._today: list[tuple[int, int, int, Run]] = []
        self._day, self._waiting = -(2**61), 0

    def __len__(self) -> int:
        return self._waiting

    def push(self, at: int, rank: int, run: Run) -> None:
        """``at`` is not before what was popped last."""
        self._waiting += 1
        day = at // DAY
        if day <= self._day:
            heappush(self._today, (at, rank, run.number, run))
        else:
            self._days.setdefault(day, []).append((at, rank, run.number, run))

    def first(self) -> int:
        """The instant of the next; ``NEVER`` where nobody waits."""
        if not self._today:
            if not self._days:
                return int(NEVER)
            self._day = min(self._days)
            self._today = self._days.pop(self._day)
            heapify(self._today)
        return self._today[0][0]

    def pop(self) -> Run:
        """The next, after ``first``."""
        self._waiting -= 1
        return heappop(self._today)[3]


class _Stage:
    def __init__(self, plays: Sequence[Played], known: Known, rates: Mapping[tuple[str, str], float]) -> None:
        self.plays, self.known, self.rates = plays, known, rates
        self.sent: dict[int, list[int]] = {}
        self.came: list[dict[int, list[int]]] = [
            {person: list(times) for person, times in play.before.items()} for play in plays
        ]
        self.line, self.runs = WaitingLine(), 0
        self.about = About(known, self._sent, self._did)
        self.run: Run | None = None

    def _sent(self, person: int) -> Sequence[int]:
        return self.sent.get(person, ())

    def _did(self, person: int, step_id: str, did: str) -> bool:
        """What they would have done is drawn, by the shop's own rates; never looked up in the future."""
        assert self.run is not None
        rate = self.rates.get((self.run.channels.get(step_id, ""), did), 0.0)
        about = self.about
        return chance(about.key, about.person_id, f"{did} {step_id}") < rate

    def begin(self, play: int, person: int, position: Position) -> None:
        self.runs += 1
        self.push(Run(play, person, position, self.runs))

    def push(self, run: Run) -> None:
        self.line.push(run.position.due, self.plays[run.play].rank, run)


def rehearse(
    plays: Sequence[Played], known: Known, start: int, end: int, around: Around = NOTHING_AROUND,
    rates: Mapping[tuple[str, str], float] | None = None, already: Sequence[tuple[int, int]] = (),
    watched: int = 0, progress: Callable[[float], None] = lambda share: None,
) -> Rehearsal:  # fmt: skip
    """Plays the sequences side by side with ``start < at <= end``.

    ``already`` are (instant, person) of marketing messages that really went, which count towards the limits. ``rates``
    are shares by (channel, what) with which messages are opened, clicked and answered. The first ``watched`` people who come into the first sequence get a diary.
    Raises ``RuleProblem`` where a rule leans on something that is not there.
    """
    stage, found = _Stage(plays, known, rates or {}), Rehearsal(start, end)
    queue = _queue(plays, known, start, end, around, already)
    for number, play in enumerate(plays):
        for person, position in play.standing:
            stage.begin(number, person, position)
    with without_collecting():
        _play_all(stage, found, queue, watched, progress)
    return found


def _play_all(stage: _Stage, found: Rehearsal, queue: list[tuple[int, int, Crossing]], watched: int, progress: Callable[[float], None]) -> None:  # fmt: skip
    start, end = found.start, found.end
    at, told = 0, start
    line, last = stage.line, len(queue)
    while at < last or line:
        instant = line.first()
        if at < last and queue[at][0] <= instant:
            instant, play, crossing = queue[at]
            at += 1
            if play < 0:
                stage.sent.setdefault(crossing.person, []).append(instant)
            else:
                _come_in(stage, found, play, crossing, watched)
        else:
            if instant > end:
                break
            _play(stage, found, line.pop(), instant)
        if instant - told > 7 * DAY:
            told = instant
            progress((instant - start) / max(end - start, 1))
    found.under_way = len(line)


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


def _queue(plays: Sequence[Played], known: Known, start: int, end: int, around: Around, already: Sequence[tuple[int, int]]) -> list[tuple[int, int, Crossing]]:  # fmt: skip
    found = [(at, -1, Crossing(at, person, "", at)) for at, person in already if at <= end]
    for number, play in enumerate(plays):
        cross = play.crossed
        if cross is None:
            cross = crossings(play.tree.plan.start, known.ledger, start, end, around)
        found += [(one.at, number, one) for one in (*play.backlog, *cross) if one.at <= end]
    found.sort(key=lambda one: (one[0], one[1]))
    return found


def _come_in(stage: _Stage, found: Rehearsal, number: int, crossing: Crossing, watched: int) -> None:
    play, person = stage.plays[number], crossing.person
    before = stage.came[number].setdefault(person, [])
    about = stage.about.turn(play.key, person, crossing.at)
    why = kept_out(play.tree.plan, crossing, before, about)
    if why is not None:
        found.kept_out[(number, why)] += 1
        return
    before.append(crossing.at)
    position = first_position(play.tree, crossing, play.key, about.person_id)
    if number == 0 and len(found.diaries) < watched:
        found.diaries.setdefault(person, [])
    if person in found.diaries:
        _note(found, crossing.at, number, person, "came in", "", position.state)
    if position.state != UNDER_WAY:
        found.kept_out[(number, position.state)] += 1
        return
    found.entered.append((crossing.at, number, person))
    stage.begin(number, person, position)


def _play(stage: _Stage, found: Rehearsal, run: Run, now: int) -> None:
    play = stage.plays[run.play]
    stage.run = run
    about = stage.about.turn(play.key, run.person, now)
    run.position, acts = step(play.tree, run.position, about, now)
    for act in acts:
        if act.kind == "send":
            found.sent.append(Sent(act.at, run.play, run.person, act.step, act.detail))
            run.channels[act.step] = act.detail
            node = play.tree.nodes[act.step].step
            if isinstance(node, MessageStep) and about.marketing(node.message or 0):
                stage.sent.setdefault(run.person, []).append(act.at)
        elif act.kind == "arm":
            found.arms[(run.play, act.step, int(act.detail))] += 1
        elif act.kind == "refuse":
            found.refused[(run.play, act.step, act.detail)] += 1
        if run.person in found.diaries:
            _note(found, act.at, run.play, run.person, act.kind, act.step, act.detail)
    _go_on(stage, found, run, now)


def _go_on(stage: _Stage, found: Rehearsal, run: Run, now: int) -> None:
    position = run.position
    if position.state == UNDER_WAY:
        run.position = woken(stage.plays[run.play].tree, position, stage.known, run.person, now, position.due)
        stage.push(run)
        return
    out = Out(now, run.play, run.person, position.entered, position.state, position.cause or "", len(position.sent))  # fmt: skip
    found.outs.append(out)
    if run.person in found.diaries:
        _note(found, now, run.play, run.person, position.state, "", position.cause or "")


def woken(tree: Tree, position: Position, known: Known, person: int, after: int, by: int) -> Position:
    """A position that waits for something, woken at the instant at which that happened after ``after``, by ``by``."""
    node = tree.nodes.get(position.step or "")
    waits = node.step if node is not None else None
    if isinstance(waits, WaitStep) and waits.kind == "until event" and position.settled:
        happened = known.happened(waits.happening).first(person, after, min(by, position.due))
        if happened is not None:
            return position._replace(due=happened)
    return position


def _note(found: Rehearsal, at: int, play: int, person: int, what: str, step_id: str, detail: str) -> None:
    found.diaries.setdefault(person, []).append(Line(at, play, person, what, step_id, detail))
