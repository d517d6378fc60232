"""A dry run: the same step function over the ledger with an invented clock, and acts that only count.

Nothing of one person depends on another, so that everybody is played through alone, one after the other.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from heapq import heappop, heappush, heapreplace, merge

from loyalbell.core.collecting import without_collecting
from loyalbell.core.sequences.engine import step, woken, woken_since
from loyalbell.core.sequences.engine_facts import PersonFacts, SequenceHistory
from loyalbell.core.sequences.entry import HELD_BACK, come_in
from loyalbell.core.sequences.plan import OnSegment
from loyalbell.core.sequences.rehearsal import (
    CameIn,
    Line,
    Out,
    Refused,
    Rehearsal,
    RehearsalScene,
    Sent,
    StayedOut,
)
from loyalbell.core.sequences.simulated_history import SimulatedEnrolment, SimulatedHistory, SimulatedMessage
from loyalbell.core.sequences.together.rehearsal_events import SENT_BY_OTHERS, Event, RehearsalEvents
from loyalbell.core.sequences.together.rounds import Rounds
from loyalbell.core.sequences.together.suits import suits
from loyalbell.core.sequences.triggers import TriggerContext, TriggerHit, is_daily, telling_hits
from loyalbell.core.sequences.walk import ON_ITS_WAY, UNDER_WAY, Act, Position, past_message

NOTHING_AROUND = TriggerContext()
TOLD_EVERY = 500
FEW_PEOPLE = 3_000
"""Up to about so many, one after the other is as quick (measured on the demo: 2,700 people, 36,000 looks)."""


@dataclass(slots=True)
class Run:
    """One way of somebody through one sequence; ``number`` is of the order in which they came in. ``wave``:
    how often it has gone on at this very instant after a message that left.
    """

    play: int
    position: Position
    number: int
    way: SimulatedEnrolment
    wave: int = 0


@dataclass(slots=True)
class PersonSimulation:
    """Whose turn it is, and what has happened to them so far.

    ``line``: (due, rank, number, run) as a heap. ``told``: (play, why) of what need not be said again.
    """

    person: int
    came: list[list[int]]
    imagined: SimulatedHistory
    sent: list[int] = field(default_factory=list)
    line: list[tuple[int, int, int, int, Run]] = field(default_factory=list)
    runs: int = 0
    told: set[tuple[int, str]] = field(default_factory=set)


class _Stage:
    """What is the same for everybody. With ``noting``, diaries are kept."""

    def __init__(
        self,
        plays: Sequence[RehearsalScene],
        known: SequenceHistory,
        rates: Mapping[tuple[str, str], float],
        found: Rehearsal,
        noting: bool = False,
    ) -> None:
        self.plays, self.known, self.rates, self.found, self.noting = plays, known, rates, found, noting
        self.about = PersonFacts(known, self._sent, self._did)
        self.numbers = [play.number for play in plays if play.number]
        self.turn = PersonSimulation(0, [], SimulatedHistory(0, rates, self.numbers))

    def _sent(self, person: int) -> Sequence[int]:
        return self.turn.sent

    def _did(self, person: int, step_id: str, did: str) -> bool:
        return self.turn.imagined.did(self.about.key, step_id, did, self.about.now)

    def _turn(self, person: int) -> PersonSimulation:
        before = [list(play.before.get(person, ())) for play in self.plays]
        return PersonSimulation(
            person, before, SimulatedHistory(self.known.ids[person], self.rates, self.numbers)
        )

    def play(self, person: int, events: Sequence[Event], standing: Sequence[tuple[int, Position]]) -> None:
        """Everything of one person in order of time.

        Of what falls together, what happens goes before what is due.
        """
        turn = self.turn = self._turn(person)
        self.about.imagined = turn.imagined
        for number, position in standing:
            play = self.plays[number]
            about = self.about.turn(play.key, person, self.found.start)
            self._begin(number, woken_since(play.tree, position, about.first))
        for event in events:
            self._go_on(event[0])
            self._happen(event)
        self._go_on(self.found.end + 1)
        self.found.standing += [(run.play, person, run.position) for *_, run in turn.line]

    def _go_on(self, until: int) -> None:
        """Everything that is due before ``until``."""
        line = self.turn.line
        while line and line[0][0] < until:
            run = line[0][4]
            self._look(run)
            if run.position.state == UNDER_WAY:
                heapreplace(line, self._place(run))
            else:
                heappop(line)

    def _begin(self, number: int, position: Position) -> None:
        turn = self.turn
        turn.runs += 1
        run = Run(
            number, position, turn.runs, SimulatedEnrolment(self.plays[number].number, position.entered)
        )
        turn.imagined.enrolments.append(run.way)
        heappush(turn.line, self._place(run))

    def _place(self, run: Run) -> tuple[int, int, int, int, Run]:
        return run.position.due, run.wave, self.plays[run.play].rank, run.number, run

    def _happen(self, event: Event) -> None:
        at, number, hit = event
        self.turn.imagined.after_message = False
        if number == SENT_BY_OTHERS:
            self.turn.sent.append(at)
        elif self._crosses(number, hit):
            self._come_in(number, hit)

    def _crosses(self, number: int, hit: TriggerHit) -> bool:
        """Whether somebody in a segment for the start is so still, with what has been imagined of them since.

        Those who would come into it by what is imagined are not found.
        """
        start, turn = self.plays[number].tree.plan.start, self.turn
        if not isinstance(start, OnSegment) or start.way == "leaves" or not turn.imagined:
            return True
        if not self.known.nature(start.rule).of_ours:
            return True
        return self.known.meets(start.rule, hit.person, hit.at, hit.at, turn.imagined)

    def _come_in(self, number: int, hit: TriggerHit) -> None:
        play, person, found = self.plays[number], hit.person, self.found
        before = self.turn.came[number]
        about = self.about.turn(play.key, person, hit.at)
        position = come_in(play.tree, hit, before, about)
        if isinstance(position, str):
            if self._tells(number, position):
                found.stayed_out.append(StayedOut(hit.at, number, person, position))
            return
        self.turn.told |= {(number, "came in before"), (number, "came in lately")}
        self._note(hit.at, number, "came in", "", position.state)
        if position.state != UNDER_WAY:
            found.stayed_out.append(StayedOut(hit.at, number, person, position.state))
            self.turn.imagined.enrolments.append(
                SimulatedEnrolment(play.number, hit.at, hit.at, position.state)
            )
            return
        found.entered.append(CameIn(hit.at, number, person))
        self._begin(number, position)

    def _tells(self, number: int, why: str) -> bool:
        """Whether it says something that somebody stayed out: of those who cross the line day after day once,
        and not that they came in before by this very line.
        """
        if not is_daily(self.plays[number].tree.plan.start):
            return True
        known = (number, why) in self.turn.told
        self.turn.told.add((number, why))
        return not known

    def _look(self, run: Run) -> None:
        """To the next instant at which something is to be looked at, or out."""
        play, person = self.plays[run.play], self.turn.person
        # who is overdue when it begins is looked at then, as by a tick after a time in which there was none
        now = max(run.position.due, self.found.start)
        about = self.about.turn(play.key, person, now)
        self.turn.imagined.after_message = run.wave > 0
        position, acts = step(play.tree, run.position, about, now, asked=run.wave > 0)
        for act in acts:
            self._do(run, act)
        again = position.awaits == ON_ITS_WAY
        if again:
            # imagined to leave at its instant; the others who are due come before what follows, as in a tick
            position = past_message(position, position.due, True)
        run.wave = run.wave + 1 if again and position.due <= now else 0
        if play.tree.wakes:
            position = woken(play.tree, position, self.about.first, now, position.due)
        run.position = position
        if position.state == UNDER_WAY:
            return
        run.way.ended_at, run.way.how = now, position.state
        cause = position.cause or ""
        self.found.outs.append(
            Out(now, run.play, person, position.entered, position.state, cause, len(position.sent))
        )
        self._note(now, run.play, position.state, "", cause)

    def _do(self, run: Run, act: Act) -> None:
        found, person = self.found, self.turn.person
        if act.at > found.end:
            return  # planned before the end, to leave after it
        if act.kind == "send":
            found.sent.append(Sent(act.at, run.play, person, act.step, act.detail, run.position.entered))
            play = self.plays[run.play]
            message = getattr(play.tree.nodes[act.step].step, "message", None) or 0
            self.turn.imagined.letters.append(
                SimulatedMessage(act.at, play.key, act.step, message, act.detail)
            )
            if self.about.marketing(message):
                self.turn.sent.append(act.at)
        elif act.kind == "arm":
            found.arms[(run.play, act.step, int(act.detail))] += 1
        elif act.kind == "refuse":
            found.refused.append(
                Refused(act.at, run.play, person, act.step, act.detail, run.position.entered)
            )
        self._note(act.at, run.play, act.kind, act.step, act.detail)

    def _note(self, at: int, play: int, what: str, step_id: str, detail: str) -> None:
        if self.noting:
            person = self.turn.person
            self.found.diaries.setdefault(person, []).append(Line(at, play, person, what, step_id, detail))


def rehearse(
    plays: Sequence[RehearsalScene],
    known: SequenceHistory,
    start: int,
    end: int,
    around: TriggerContext = NOTHING_AROUND,
    rates: Mapping[tuple[str, str], float] | None = None,
    already: Sequence[tuple[int, int]] = (),
    watched: int = 0,
    progress: Callable[[float], None] = lambda share: None,
    few: int = FEW_PEOPLE,
) -> Rehearsal:
    """Plays the sequences side by side with ``start < at <= end``.

    ``already`` are (instant, person) of marketing messages that really went, which count towards the limits.
    ``rates`` are shares by (channel, what) with which messages are opened, clicked and answered. The first
    ``watched`` people who come into the first sequence get a diary. Up to ``few`` people are played one after
    the other, more at once where their sequences suit. Raises ``RuleProblem`` where a rule leans on what is
    not there.
    """
    found = Rehearsal(start, end)
    events, standing = _events(plays, known, start, end, around, already), _standing(plays)
    people = sorted({*events.people(), *standing})
    alone = _alone(plays, known, events, standing) if len(people) > few else people
    apart = set(alone)
    at_once = [person for person in people if person not in apart]
    share = len(at_once) / max(1, len(people))
    stage = _Stage(plays, known, rates or {}, found)
    with without_collecting():
        if at_once:
            rounds = Rounds(plays, known, rates or {}, found, at_once, events, standing)
            rounds.play(lambda part: progress(share * part))
        for number, person in enumerate(alone):
            stage.play(person, events.of(person), standing.get(person, ()))
            if number % TOLD_EVERY == 0:
                progress(share + number / len(people))
        found.in_order()
        again = _Stage(plays, known, rates or {}, Rehearsal(start, end), noting=True)
        for person in _watched(found, watched):
            again.play(person, events.of(person), standing.get(person, ()))
    found.diaries = again.found.diaries
    return found


def _alone(
    plays: Sequence[RehearsalScene],
    known: SequenceHistory,
    events: RehearsalEvents,
    standing: Mapping[int, Sequence[tuple[int, Position]]],
) -> list[int]:
    """The people of whom something is of a sequence that cannot be played for everybody at once."""
    numbers = [number for number, play in enumerate(plays) if not suits(play.tree.plan, known)]
    stand = {person for person, rows in standing.items() if any(number in numbers for number, _ in rows)}
    return sorted({*events.people_of(numbers), *stand})


def _watched(found: Rehearsal, most: int) -> list[int]:
    """The first who come into the first sequence, those held back among them; what is found is in order."""
    held = ((one.at, one.person) for one in found.stayed_out if one.play == 0 and one.cause == HELD_BACK)
    came = ((one.at, one.person) for one in found.entered if one.play == 0)
    watched: dict[int, None] = {}
    for _, person in merge(held, came):
        if len(watched) == most:
            break
        watched[person] = None
    return list(watched)


def _events(
    plays: Sequence[RehearsalScene],
    known: SequenceHistory,
    start: int,
    end: int,
    around: TriggerContext,
    already: Sequence[tuple[int, int]],
) -> RehearsalEvents:
    crossed = []
    for play in plays:
        hits = play.crossed
        if hits is None:
            hits = telling_hits(play.tree.plan, known.snapshot, start, end, around)
        crossed.append(sorted((*play.backlog, *hits)) if play.backlog else hits)
    return RehearsalEvents(crossed, already, len(known.ids), end)


def _standing(plays: Sequence[RehearsalScene]) -> dict[int, list[tuple[int, Position]]]:
    found: dict[int, list[tuple[int, Position]]] = {}
    for number, play in enumerate(plays):
        for person, position in play.standing:
            found.setdefault(person, []).append((number, position))
    return found
