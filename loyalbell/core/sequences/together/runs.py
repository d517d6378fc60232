"""The ways of many people through sequences as columns, a row a way."""

from collections.abc import Hashable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np

from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.sequences.together.questions import ARRIVED, ENTERED
from loyalbell.core.sequences.walk import UNDER_WAY, Position

UNTRIED = -(2**62)
T = TypeVar("T", bound=Hashable)


class Numbering(Generic[T]):
    """Things by number, in the order in which they were met."""

    def __init__(self, *things: T) -> None:
        self.things: list[T] = list(things)
        self._numbers: dict[T, int] = {thing: number for number, thing in enumerate(things)}

    def __getitem__(self, thing: T) -> int:
        number = self._numbers.get(thing)
        if number is None:
            number = self._numbers[thing] = len(self.things)
            self.things.append(thing)
        return number


class Spoken:
    """The words of positions by number."""

    def __init__(self) -> None:
        self.steps: Numbering[str | None] = Numbering(None)
        self.sent: Numbering[tuple[str, ...]] = Numbering(())
        self.states: Numbering[str] = Numbering(UNDER_WAY)
        self.causes: Numbering[str | None] = Numbering(None)
        self.awaits: Numbering[str] = Numbering("")


@dataclass
class Columns:
    """What of ``Position`` changes while somebody goes on."""

    due: Ints
    step: Ints
    settled: Mask
    tried: Ints
    sent: Ints
    state: Ints
    cause: Ints
    awaits: Ints

    @classmethod
    def of(cls, size: int) -> "Columns":
        def zeros() -> Ints:
            return np.zeros(size, dtype=np.int64)

        return cls(
            zeros(),
            zeros(),
            np.zeros(size, dtype=np.bool_),
            np.full(size, UNTRIED, dtype=np.int64),
            *(zeros() for _ in range(4)),
        )

    def taken(self, rows: Any) -> "Columns":
        return Columns(*(column[rows] for column in vars(self).values()))

    def put(self, rows: Any, other: "Columns") -> None:
        for mine, theirs in zip(vars(self).values(), vars(other).values(), strict=True):
            mine[rows] = theirs

    def note(self, row: int, position: Position, spoken: Spoken) -> None:
        _, due, step, _, settled, tried, sent, state, cause, awaits = position
        self.due[row], self.step[row], self.settled[row] = due, spoken.steps[step], settled
        if tried is not ARRIVED:
            self.tried[row] = UNTRIED if tried is None else tried
        self.sent[row], self.state[row] = spoken.sent[sent], spoken.states[state]
        self.cause[row], self.awaits[row] = spoken.causes[cause], spoken.awaits[awaits]

    def position(self, row: int, spoken: Spoken, entered: int, anchor: int) -> Position:
        tried = int(self.tried[row])
        return Position(
            entered,
            int(self.due[row]),
            spoken.steps.things[self.step[row]],
            anchor,
            bool(self.settled[row]),
            None if tried == UNTRIED else tried,
            spoken.sent.things[self.sent[row]],
            spoken.states.things[self.state[row]],
            spoken.causes.things[self.cause[row]],
            spoken.awaits.things[self.awaits[row]],
        )


class Runs:
    """Every way, as it is begun: the rows of ``at`` and of these columns. A row's number is the order in
    which its person came in.
    """

    def __init__(self, most: int) -> None:
        def zeros() -> Ints:
            return np.zeros(most, dtype=np.int64)

        self.count = 0
        self.at = Columns.of(most)
        self.person, self.play, self.wave = zeros(), zeros(), zeros()
        self.entered, self.anchor = zeros(), zeros()

    def stand(self, person: int, play: int, position: Position, spoken: Spoken) -> int:
        """Somebody who is under way already."""
        row = self.count
        self.count += 1
        self.person[row], self.play[row] = person, play
        self.entered[row], self.anchor[row] = position.entered, position.anchor
        self.at.note(row, position, spoken)
        return row

    def begin(
        self, person: Ints, play: int, first: Position, entered: Ints, anchor: Ints, spoken: Spoken
    ) -> Ints:
        """People who come in, each at an instant of their own, at which they are due."""
        rows = np.arange(self.count, self.count + len(person))
        self.count += len(person)
        self.person[rows], self.play[rows] = person, play
        self.entered[rows], self.anchor[rows] = entered, anchor
        one = Columns.of(1)
        one.note(0, first._replace(due=0), spoken)
        self.at.put(rows, one)
        self.at.due[rows] = entered if first.due is ENTERED else first.due
        return rows

    def position(self, row: int, spoken: Spoken) -> Position:
        return self.at.position(row, spoken, int(self.entered[row]), int(self.anchor[row]))
