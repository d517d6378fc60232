"""The picture of a sequence against real time: where each note stands, which rests are folded, what each
stave is.
"""

from dataclasses import dataclass, field, replace
from textwrap import wrap

from loyalbell.core.sequences import plan as p

WIDTH, LEFT, RIGHT = 940.0, 104.0, 60.0
TOP, STAVE, BRANCH = 92.0, 124.0, 34.0
QUIET_BELOW, QUIET_ABOVE = 34.0, 40.0
"""Room below and above a stave without messages."""
LONG = 9.0
"""Days from which on a rest without notes is folded."""
FOLD, WIDEST_FOLD = 74.0, 230.0
LEAST_GAP = 74.0
"""Width between two notes on one stave."""
SIGN = 6.6
"""Width of a letter of a note's name."""
MOST_LINES = 3
"""Of a note's name above it."""


@dataclass(frozen=True)
class Note:
    """A step on the score.

    ``shape``: email, text, chat, rest or act; ``day`` from coming in; ``rest`` is the wait it ends; ``room``
    how many signs fit above and below it before the next one stands. ``lines`` and ``below_lines`` are the
    words above and below it, parted so that they fit.
    """

    step: str
    shape: str
    also: tuple[str, ...]
    x: float
    y: float
    day: float
    label: str
    below: str
    rest: str = ""
    room: int = 30

    @property
    def lines(self) -> list[str]:
        return parted(self.label, self.room, MOST_LINES)

    @property
    def below_lines(self) -> list[str]:
        return parted(self.below, self.room + 1, MOST_LINES)


def parted(words: str, room: int, most: int) -> list[str]:
    """Words in lines of ``room`` signs, ``most`` of them; a longer word stands on a line of its own, and what
    does not fit is left to the note's full text.
    """
    lines = wrap(words, max(room, 6), break_long_words=False, break_on_hyphens=False)
    if len(lines) <= most:
        return lines
    return [*lines[: most - 1], f"{lines[most - 1]} …"]


@dataclass(frozen=True)
class Stave:
    """``has_notes``: whether anything stands on it, so that its lines are drawn."""

    name: str
    share: str
    y: float
    x: float
    end: float
    has_notes: bool = True


@dataclass(frozen=True)
class Fold:
    """A long rest drawn short: ``words`` say how long it is."""

    x: float
    words: str


@dataclass(frozen=True)
class Curve:
    """From a fork on one stave to the beginning of an arm's."""

    x: float
    y: float
    to_x: float
    to_y: float


@dataclass(frozen=True)
class Score:
    notes: list[Note]
    staves: list[Stave]
    folds: list[Fold]
    curves: list[Curve]
    marks: list[tuple[float, str]]
    width: float
    height: float


@dataclass
class _Raw:
    step: p.AnyStep
    day: float
    row: int
    rest: str


@dataclass
class _Laid:
    raws: list[_Raw] = field(default_factory=list)
    rows: list[tuple[str, str, int, float, float]] = field(default_factory=list)
    branches: list[tuple[float, int, int]] = field(default_factory=list)
    rests: list[tuple[float, float]] = field(default_factory=list)


def score_of(plan: p.Plan, labels: dict[str, tuple[str, str]], names: dict[str, str] | None = None) -> Score:
    """``labels``: by step what stands above and below its note.

    ``names``: by ``step:arm`` how an arm is called.
    """
    laid = _Laid()
    end = _lay(plan.steps, 0.0, 0, laid, names or {})
    last = max([end, *(raw.day for raw in laid.raws), 1.0])
    place = _Places([raw.day for raw in laid.raws] + [day for day, _, _ in laid.branches], last)
    used = max([row for *_, row, _, _ in laid.rows] or [0])
    ys = _heights(used + 1, {raw.row for raw in laid.raws if isinstance(raw.step, p.MessageStep)})
    notes = [_note(raw, place, ys, labels) for raw in laid.raws]
    staves = [
        Stave(name, share, ys[row], place.at(start), place.at(stop))
        for name, share, row, start, stop in laid.rows
    ]
    staves.insert(0, Stave("", "", ys[0], place.at(0), place.at(last)))
    apart = _apart(notes)
    played = {note.y for note in apart if note.shape != "fork"}
    staves = [replace(stave, has_notes=stave.y in played) for stave in staves]
    curves = [Curve(place.at(day), ys[one], place.at(day) + 40, ys[two]) for day, one, two in laid.branches]
    return Score(apart, staves, place.folds(), curves, place.marks(), place.width, ys[-1] + 84)


def _heights(rows: int, messages: set[int]) -> list[float]:
    """The middle of each stave: those without messages have little above and below them."""
    found = [TOP + (BRANCH if 0 in messages else 0.0)]
    for row in range(1, rows):
        below = STAVE / 2 if row - 1 in messages else QUIET_BELOW
        above = STAVE / 2 if row in messages else QUIET_ABOVE
        found.append(found[-1] + below + above)
    return found


def _lay(steps: tuple[p.AnyStep, ...], day: float, row: int, laid: _Laid, names: dict[str, str]) -> float:
    """Lays steps one after another from ``day``; returns the day on which the last arm joins again."""
    rest = ""
    for step in steps:
        if isinstance(step, p.WaitStep):
            longer = days_of(step)
            laid.rests.append((day, day + longer))
            day += longer
            rest = str(step.span) if step.kind in ("for", "until event", "until near") else "until"
            laid.raws.append(_Raw(step, day, row, rest))
            continue
        laid.raws.append(_Raw(step, day, row, rest))
        rest = ""
        if isinstance(step, p.ForkStep | p.RandomSplitStep):
            day = _fork(step, day, row, laid, names)
    return day


def _fork(
    step: p.ForkStep | p.RandomSplitStep, day: float, row: int, laid: _Laid, names: dict[str, str]
) -> float:
    ends = [day]
    for number, inner in enumerate(p.lists_of(step)):
        if not inner:
            continue
        below = max([row, *(used for *_, used, _, _ in laid.rows)]) + 1
        at = len(laid.rows)
        share = f"{step.arms[number].share} %" if isinstance(step, p.RandomSplitStep) else ""
        laid.rows.append((names.get(f"{step.id}:{number}", ""), share, below, day, day))
        laid.branches.append((day, row, below))
        end = _lay(inner, day, below, laid, names)
        name, kept, used, start, _ = laid.rows[at]
        laid.rows[at] = (name, kept, used, start, max(end, day + 0.5))
        ends.append(end)
    return max(ends)


def days_of(wait: p.WaitStep) -> float:
    """About how many days a wait takes; one until a time of the week about half of what it can take."""
    if wait.kind in ("for", "until event"):
        return wait.span.seconds / 86_400
    if wait.kind == "until time":
        return 0.5 if len(wait.weekdays) == 7 else 3.5 / len(wait.weekdays)
    return 1.0


class _Places:
    """Days along the line: to scale, with long rests folded."""

    def __init__(self, days: list[float], last: float) -> None:
        self.exit_events = sorted({0.0, last, *days})
        gaps = [
            later - earlier for earlier, later in zip(self.exit_events, self.exit_events[1:], strict=False)
        ]
        drawn = sum(gap for gap in gaps if gap <= LONG)
        folds = sum(gap > LONG for gap in gaps)
        self.fold = (
            FOLD if drawn or not folds else min(max((WIDTH - LEFT - RIGHT) / folds, FOLD), WIDEST_FOLD)
        )
        room = WIDTH - LEFT - RIGHT - self.fold * folds
        self.scale = min(max(room / drawn, 8.0), 64.0) if drawn else 30.0
        self.xs = [LEFT]
        for gap in gaps:
            self.xs.append(self.xs[-1] + (self.fold if gap > LONG else gap * self.scale))
        self.width = max(WIDTH, self.xs[-1] + RIGHT)

    def at(self, day: float) -> float:
        for place in range(len(self.exit_events) - 1):
            low, high = self.exit_events[place], self.exit_events[place + 1]
            if low <= day <= high:
                part = (day - low) / (high - low) if high > low else 0.0
                return round(self.xs[place] + part * (self.xs[place + 1] - self.xs[place]), 1)
        return round(self.xs[-1], 1)

    def folds(self) -> list[Fold]:
        pairs = zip(self.exit_events, self.exit_events[1:], self.xs, self.xs[1:], strict=False)
        return [
            Fold(round((left + right) / 2, 1), f"{high - low:.0f} days")
            for low, high, left, right in pairs
            if high - low > LONG
        ]

    def marks(self) -> list[tuple[float, str]]:
        """(x, words) of days to be named, none so near another that they would touch."""
        found: list[tuple[float, str]] = []
        for day, x in zip(self.exit_events, self.xs, strict=True):
            if day == int(day) and (not found or x - found[-1][0] >= 46):
                found.append((x, f"day {int(day)}"))
        return found


def _note(raw: _Raw, place: _Places, ys: list[float], labels: dict[str, tuple[str, str]]) -> Note:
    step = raw.step
    shape, also = "act", tuple[str, ...]()
    if isinstance(step, p.MessageStep):
        shape, *rest = step.channels
        also = tuple(rest)
    elif isinstance(step, p.WaitStep):
        shape = "rest"
    elif isinstance(step, p.ForkStep | p.RandomSplitStep):
        shape = "fork"
    above, below = labels.get(step.id, ("", ""))
    return Note(step.id, shape, also, place.at(raw.day), ys[raw.row], raw.day, above, below, raw.rest)


def _apart(notes: list[Note]) -> list[Note]:
    """Notes that would stand on one another are set a little apart, in their order, and told how long their
    names may be.
    """
    last: dict[float, float] = {}
    found = []
    for note in notes:
        if note.shape == "rest":
            continue
        x = max(note.x, last.get(note.y, -1e9) + (26 if note.shape in ("fork", "act") else LEAST_GAP))
        last[note.y] = x
        found.append(replace(note, x=round(x, 1)))
    return [replace(note, room=_room(note, found)) for note in found]


def _room(note: Note, notes: list[Note]) -> int:
    nearest = min((one.x - note.x for one in notes if one.y == note.y and one.x > note.x), default=220.0)
    return max(int((nearest - 12) / SIGN), 4)
