"""Whether people bought within so many days of an instant, for how much, and what they spent before. Pure."""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints, Mask, Small, by_person_and_time, order_by_person
from loyalbell.core.history.snapshot import Orders
from loyalbell.core.results.lift import Numbers, Outcomes


@dataclass(frozen=True)
class Purchases:
    """Orders that stood at one instant, by person and then time; ``money`` is summed up from the first."""

    keys: Ints
    money: Ints

    @classmethod
    def of(cls, orders: Orders, as_of: int) -> "Purchases":
        rows = slice(0, int(np.searchsorted(orders.at, as_of, side="right")))
        counted = orders.counted(rows, as_of)
        person, at = orders.person[rows][counted], orders.at[rows][counted]
        money = orders.net_money(rows, as_of)[counted]
        order = order_by_person(person, at)
        keys = by_person_and_time(person[order], at[order])
        return cls(keys, np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(money[order]))))

    def around(self, person: Small, at: Ints, seconds: int) -> tuple[Ints, Ints, Ints]:
        """Orders of each within so many ``seconds`` after ``at``, their money, and that of as long before.

        As ``between`` twice, with one search less: on two million orders the searches are all it costs.
        """
        before, then, after = (
            np.searchsorted(self.keys, by_person_and_time(person, edge), side="right")
            for edge in (at - seconds, at, at + seconds)
        )
        return after - then, self.money[after] - self.money[then], self.money[then] - self.money[before]

    def between(self, person: Small, low: Ints, high: Ints) -> tuple[Ints, Ints]:
        """How many orders of each with ``low < at <= high``, and their money in minor units."""
        first = np.searchsorted(self.keys, by_person_and_time(person, low), side="right")
        last = np.searchsorted(self.keys, by_person_and_time(person, high), side="right")
        return last - first, self.money[last] - self.money[first]


@dataclass(frozen=True)
class Qualified:
    """People who qualified, each once: their numbers, when, and who of them was held back."""

    person: Small
    at: Ints
    is_held: Mask

    def __len__(self) -> int:
        return len(self.at)

    def taken(self, rows: Mask) -> "Qualified":
        return Qualified(self.person[rows], self.at[rows], self.is_held[rows])

    def first_of_each(self, low: int, high: int) -> "Qualified":
        """Only the first time of each person with ``low <= at <= high``, in the order of their numbers.

        A person is one chance: counted each time they qualify, the groups would look larger than they are.
        """
        within = np.flatnonzero((self.at >= low) & (self.at <= high))
        order = within[order_by_person(self.person[within], self.at[within])]
        person = self.person[order]
        rows = order[np.flatnonzero(np.diff(person, prepend=-1))]
        return Qualified(self.person[rows], self.at[rows], self.is_held[rows])


@dataclass(frozen=True)
class Compared:
    """Who came back within ``days`` of qualifying, of those whose days are over; by group."""

    who: Qualified
    came: Numbers
    spent: Numbers
    before: Numbers
    days: int

    def group(self, values: Numbers, held: bool) -> Outcomes:
        mine = self.who.is_held == held
        return Outcomes.of(values[mine], self.before[mine])

    def of(self, rows: Mask) -> Outcomes:
        """1 for who came back, of some of them."""
        return Outcomes.of(self.came[rows], self.before[rows])

    @property
    def shares(self) -> tuple[Outcomes, Outcomes]:
        """Treated and held back: 1 for who came back."""
        return self.group(self.came, False), self.group(self.came, True)

    @property
    def money(self) -> tuple[Outcomes, Outcomes]:
        """Treated and held back: what each spent, net, in minor units."""
        return self.group(self.spent, False), self.group(self.spent, True)

    def until(self, at: int) -> "Compared":
        """As it stood at an earlier instant."""
        over = self.who.at + self.days * DAY <= at
        return Compared(self.who.taken(over), self.came[over], self.spent[over], self.before[over], self.days)


def compare(who: Qualified, purchases: Purchases, days: int, as_of: int) -> Compared:
    """Counted from qualifying, so that both groups are alike (rules of the job, section 7)."""
    over = who.taken(who.at + days * DAY <= as_of)
    count, spent, before = purchases.around(over.person, over.at, days * DAY)
    return Compared(over, (count > 0).astype(float), spent.astype(float), before.astype(float), days)
