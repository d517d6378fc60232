"""Everything that happens to the people of a rehearsal from outside: who crosses which line when, and
messages that really went.
"""

from collections.abc import Sequence
from itertools import chain

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.sequences.triggers import TriggerHit

SENT_BY_OTHERS = -1
Event = tuple[int, int, TriggerHit]
"""(instant, number of the play, who crossed its line), or a message that really went, for ``SENT_BY_OTHERS``.
"""


class RehearsalEvents:
    """Rows by person, those of one in the order in which they happen: ``at``, ``play``, ``person`` and
    ``anchor``; ``first`` to ``end`` are the rows of each by person number.
    """

    def __init__(
        self,
        crossed: Sequence[Sequence[TriggerHit]],
        already: Sequence[tuple[int, int]],
        people: int,
        by: int,
    ) -> None:
        """``crossed`` by play, each in order; ``already`` are (instant, person); none later than ``by``."""
        self._hits = list(chain.from_iterable(crossed))
        count = len(self._hits)
        at = np.fromiter(chain((hit.at for hit in self._hits), (at for at, _ in already)), np.int64)
        person = np.fromiter(
            chain((hit.person for hit in self._hits), (person for _, person in already)), np.int64
        )
        anchor = np.fromiter(chain((hit.anchor for hit in self._hits), (at for at, _ in already)), np.int64)
        play = np.full(len(at), SENT_BY_OTHERS)
        play[:count] = np.repeat(np.arange(len(crossed)), [len(hits) for hits in crossed])
        order = np.lexsort((play, at, person))
        self._row: Ints = order[at[order] <= by]
        self.at, self.play = at[self._row], play[self._row]
        self.person, self.anchor = person[self._row], anchor[self._row]
        counts = np.bincount(self.person, minlength=people)
        self.end: Ints = np.cumsum(counts)
        self.first: Ints = self.end - counts

    def people(self) -> list[int]:
        return [int(person) for person in np.unique(self.person)]

    def people_of(self, plays: Sequence[int]) -> list[int]:
        """Who crosses the line of any of them."""
        return [int(person) for person in np.unique(self.person[np.isin(self.play, plays)])]

    def of(self, person: int) -> list[Event]:
        """What happens to somebody."""
        rows = range(int(self.first[person]), int(self.end[person]))
        return [(int(self.at[row]), int(self.play[row]), self._hit(row)) for row in rows]

    def _hit(self, row: int) -> TriggerHit:
        made = int(self._row[row])
        if made < len(self._hits):
            return self._hits[made]
        at = int(self.at[row])
        return TriggerHit(at, int(self.person[row]), "", at)
