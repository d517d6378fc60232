"""What came of looks at many people."""

from dataclasses import dataclass, field

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.together.questions import ARRIVED
from loyalbell.core.sequences.together.runs import Columns, Spoken
from loyalbell.core.sequences.walk import Act, Position

Outcome = tuple[Position, list[Act]]


@dataclass
class Looked:
    """Where those who were looked at stand, row by row, and what is done for which of the rows."""

    at: Columns
    acts: list[tuple[Act, Ints]] = field(default_factory=list)


class Outcomes:
    """What came of looks, by number: where whoever was looked at stands then, and what is done.

    ``own_tried``: whether the ``tried`` of each stays as it was. ``acting``: whether anything is done.
    """

    def __init__(self, spoken: Spoken) -> None:
        self.at, self.acts, self._spoken = Columns.of(1), list[list[Act]](), spoken
        self.own_tried, self.acting = np.zeros(1, dtype=np.bool_), np.zeros(1, dtype=np.bool_)

    def add(self, outcome: Outcome) -> int:
        number = len(self.acts)
        if number == len(self.acting):
            self._grow(number)
        position, acts = outcome
        self.own_tried[number], self.acting[number] = position.tried is ARRIVED, bool(acts)
        self.at.note(number, position, self._spoken)
        self.acts.append(acts)
        return number

    def _grow(self, size: int) -> None:
        fresh = Columns.of(2 * size)
        fresh.put(slice(0, size), self.at)
        self.at = fresh
        self.own_tried, self.acting = np.resize(self.own_tried, 2 * size), np.resize(self.acting, 2 * size)
