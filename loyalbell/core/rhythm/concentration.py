"""How much of the money comes from how few: the Lorenz curve (M. O. Lorenz, 1905) and shares of the top."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import SECONDS
from loyalbell.core.rhythm.return_curve import Part, rows_of


@dataclass(frozen=True)
class Concentration:
    """``spent`` by person number.

    ``curve`` is the share of money by the top share of people, the best first.
    """

    spent: Ints
    people: int
    money: int
    curve: NDArray[np.float64]

    def top_count(self, share: float) -> int:
        """How many the top ``share`` (0 to 1) of the people are, rounded up."""
        return min(self.people, int(np.ceil(round(share * self.people, 9))))

    def top_share(self, share: float) -> float:
        """The part of all money that the top ``share`` of people brought."""
        count = self.top_count(share)
        return float(self.curve[count - 1]) if count else 0.0

    def top_people(self, share: float) -> Mask:
        """Who they are, by person number; of equal spenders those with the lower number come first."""
        order = np.lexsort((np.arange(len(self.spent)), -self.spent))
        top = np.zeros(len(self.spent), dtype=np.bool_)
        top[order[: self.top_count(share)]] = True
        return top

    @property
    def gini(self) -> float:
        """0 where all spend the same, near 1 where one spends all."""
        if not self.people or not self.money:
            return 0.0
        return float(2 * self.curve.sum() / self.people - 1 - 1 / self.people)


def concentration(
    snapshot: HistorySnapshot, as_of: int, days: int | None = None, part: Part | None = None
) -> Concentration:
    """Of those on file who bought anything by ``as_of``, within the ``days`` x 24 hours before where
    given.
    """
    person, at, money = rows_of(snapshot, as_of, part)
    if days is not None:
        kept = at > as_of - days * SECONDS
        person, money = person[kept], money[kept]
    bought = (snapshot.per_person(person) > 0) & snapshot.on_file(as_of)
    spent = np.where(bought, snapshot.per_person(person, money), 0)
    best = np.sort(spent[bought])[::-1]
    total = int(best.sum())
    curve = np.cumsum(best) / total if total else np.zeros(0)
    return Concentration(spent, len(best), total, curve)
