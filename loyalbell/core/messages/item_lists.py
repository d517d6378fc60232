"""Items chosen for each person: what they bought, what is due, what goes with it or is bought next, what is
new, what sells best, or what a field of theirs names.

Every choice says why. Items that are out of stock are left out, and, except from *due for refill*, items they
have.
"""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from loyalbell.core.history.columns import Column, Ints, Small, distinct, order_by_person
from loyalbell.core.history.next_items import bought_next
from loyalbell.core.history.settled import smallest
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import local_days, today_number

SEPARATORS = (r"[\n;|\t]", r",", r"[/+&]", r"\s")
CERTAIN = SEPARATORS[:2]
PARTING = " ;|,/+&\n\t"
"""How a text of several codes may be parted; those of ``CERTAIN`` do part it."""
NEXT_KEPT, AT_ONCE = 12, 20_000
SUPPORT, LIFT = 5, 1.2
"""Two items go together where at least so many people bought both, so many times oftener than by chance."""
NEW_DAYS, BEST_DAYS = 90, 180
REFILL_EARLY, REFILL_LATE = 0.75, 2.0
"""Due from three quarters of the time that one unit lasts, until twice that time has passed."""


@dataclass(frozen=True)
class Choice:
    item: int
    why: str


@dataclass(frozen=True)
class Stock:
    """What is known of an item: the days that one unit lasts, whether it is in stock, and the local day it
    came new. ``code`` is its id in the till or on the site.
    """

    category: str
    lasts: int | None
    in_stock: bool
    code: str = ""


class Shelf:
    """The whole book's purchases as of an instant, ready to choose from for any person.

    ``item`` and ``day`` are laid out by person and then time: ``_starts[p]:_starts[p + 1]`` are person p's.
    """

    def __init__(self, snapshot: HistorySnapshot, as_of: int, stock: Mapping[int, Stock]) -> None:
        lines = snapshot.lines
        rows = lines.span(-(2**62), as_of)
        kept = (lines.void_at[rows] > as_of) & (lines.item[rows] > 0)
        self.stock, self.today = stock, today_number(as_of, snapshot.zone)
        person, at = lines.person[rows][kept], lines.at[rows][kept]
        order = order_by_person(person, at)
        self._starts = np.searchsorted(person[order], np.arange(len(snapshot.people) + 1))
        self.item = smallest(lines.item[rows][kept])[order]
        self.day = local_days(at, snapshot.zone).astype(np.int32)[order]
        self.names = {at: name for at, (name, _, _) in snapshot.catalogue.items.items()}
        self._best: list[int] | None = None
        self._pairs: dict[int, list[tuple[float, int, int]]] | None = None
        self._new: list[int] | None = None
        self._next: dict[int, list[tuple[int, int]]] = {}
        self._lines, self._as_of = lines, as_of
        self.by_name = item_keys(self.names, stock)

    def choose(
        self, which: str, person: int, most: int, field: object = None, fallback: bool = True
    ) -> list[Choice]:
        """The list for the person with this number.

        With ``fallback`` best sellers fill it up where it stays short.
        """
        makers = {
            "bought": self.bought,
            "refill": self.refill,
            "goes with": self.goes_with,
            "next": self.next,
            "new": self.new,
            "best": self.best,
        }
        found = self.named(field) if which == "field" else makers[which](person)
        if fallback and len(found) < most and which != "best":
            there = {one.item for one in found}
            found = [*found, *(one for one in self.best(person) if one.item not in there)]
        return [one for one in found if self.stock.get(one.item) is None or self.stock[one.item].in_stock][
            :most
        ]

    def _theirs(self, person: int) -> tuple[Column, Small]:
        # whoever came into the book since has bought nothing here
        rows = slice(*self._starts[person : person + 2]) if person < len(self._starts) - 1 else slice(0)
        return self.item[rows], self.day[rows]

    def _whose(self) -> Ints:
        """Person numbers beside ``item`` and ``day``."""
        return np.repeat(np.arange(len(self._starts) - 1), np.diff(self._starts))

    def bought(self, person: int) -> list[Choice]:
        """What they have, the newest first."""
        items, days = self._theirs(person)
        newest = {
            int(item): int(day) for item, day in sorted(zip(items, days, strict=True), key=lambda one: one[1])
        }
        return [
            Choice(item, f"bought {self.today - day} days ago")
            for item, day in sorted(newest.items(), key=lambda one: (-one[1], one[0]))
        ]

    def next(self, person: int) -> list[Choice]:
        """What most buyers of what they bought last bought in a later order, without what they have."""
        items, days = self._theirs(person)
        if not len(items):
            return []
        has = {int(one) for one in items}
        last = sorted({int(one) for one in items[days == days.max()]})
        scored: dict[int, tuple[int, int]] = {}
        for item in last:
            for other, people in self._bought_next(item):
                if other not in has and people > scored.get(other, (0, 0))[0]:
                    scored[other] = (people, item)
        ranked = sorted(scored.items(), key=lambda pair: (-pair[1][0], pair[0]))
        return [
            Choice(other, f"{people} people bought it after {self.names.get(item, 'that')}")
            for other, (people, item) in ranked
        ]

    def _bought_next(self, item: int) -> list[tuple[int, int]]:
        if item not in self._next:
            people = len(self._starts) - 1
            _, self._next[item] = bought_next(self._lines, people, item, self._as_of, NEXT_KEPT)
        return self._next[item]

    def refill(self, person: int) -> list[Choice]:
        """What lasts so many days and was bought about that long ago, the most overdue first."""
        items, days = self._theirs(person)
        due = []
        for item in np.unique(items):
            lasts = self.stock[int(item)].lasts if int(item) in self.stock else None
            since = self.today - int(days[items == item].max())
            if lasts and REFILL_EARLY * lasts <= since <= REFILL_LATE * lasts:
                why = f"bought {since} days ago, lasts about {lasts}"
                due.append((since / lasts, Choice(int(item), why)))
        return [one for _, one in sorted(due, key=lambda pair: (-pair[0], pair[1].item))]

    def goes_with(self, person: int) -> list[Choice]:
        """By lift of people who bought both, with enough of them behind it."""
        items, _ = self._theirs(person)
        has = {int(one) for one in np.unique(items)}
        scored: dict[int, tuple[float, int, int]] = {}
        for item in has:
            for lift, both, other in self._together().get(item, ()):
                if other not in has and lift > scored.get(other, (0.0, 0, 0))[0]:
                    scored[other] = (lift, both, item)
        ranked = sorted(scored.items(), key=lambda pair: (-pair[1][0], pair[0]))
        return [
            Choice(
                other,
                f"{both} people bought it with {self.names.get(item, 'that')}, {lift:.1f} times oftener than"
                " by chance",
            )
            for other, (lift, both, item) in ranked
        ]

    def _together(self) -> dict[int, list[tuple[float, int, int]]]:
        """For each item (lift, people who bought both, the other item)."""
        if self._pairs is None:
            self._pairs = self._count_pairs()
        return self._pairs

    def _count_pairs(self) -> dict[int, list[tuple[float, int, int]]]:
        if not len(self.item):
            return {}
        codes = np.flatnonzero(np.bincount(self.item))
        both = self._bought_both(codes)
        alone = np.diag(both).copy()
        people = int((np.diff(self._starts) > 0).sum())
        lift = both * people / np.maximum(np.outer(alone, alone), 1)
        np.fill_diagonal(lift, 0)
        found: dict[int, list[tuple[float, int, int]]] = {}
        for one, other in zip(*np.nonzero((both >= SUPPORT) & (lift >= LIFT)), strict=True):
            pair = (float(lift[one, other]), int(both[one, other]), int(codes[other]))
            found.setdefault(int(codes[one]), []).append(pair)
        return found

    def _bought_both(self, codes: Ints) -> NDArray[np.float32]:
        """How many people bought each pair of items; some thousand people at a time, as a table of all of
        them and all items would take more memory than the book.
        """
        both = np.zeros((len(codes), len(codes)), dtype=np.float32)
        people = len(self._starts) - 1
        for low in range(0, people, AT_ONCE):
            starts = self._starts[low : min(low + AT_ONCE, people) + 1]
            bought = np.zeros((len(starts) - 1, len(codes)), dtype=np.float32)
            whose = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
            bought[whose, np.searchsorted(codes, self.item[starts[0] : starts[-1]])] = 1
            both += bought.T @ bought
        return both

    def new(self, person: int) -> list[Choice]:
        """Items first sold in the last 90 days, in the category they buy most of."""
        items, _ = self._theirs(person)
        has = {int(one) for one in items}
        counts: dict[str, int] = {}
        for one in items:
            category = self.stock[int(one)].category if int(one) in self.stock else ""
            if category:
                counts[category] = counts.get(category, 0) + 1
        if not counts:
            return []
        favourite = max(sorted(counts), key=lambda name: counts[name])
        return [
            Choice(item, f"new in {favourite}, what they buy most of")
            for item in self._newest()
            if item not in has and item in self.stock and self.stock[item].category == favourite
        ]

    def _newest(self) -> list[int]:
        if self._new is None:
            days = np.full(int(self.item.max(initial=0)) + 1, self.today)
            np.minimum.at(days, self.item, self.day)
            first = {item: int(days[item]) for item in np.flatnonzero(np.bincount(self.item)).tolist()}
            fresh = [item for item, day in first.items() if self.today - day < NEW_DAYS]
            self._new = sorted(fresh, key=lambda item: (-first[item], item))
        return self._new

    def best(self, person: int) -> list[Choice]:
        """What most people bought in the last 180 days, without what they have."""
        if self._best is None:
            lately = self.day > self.today - BEST_DAYS
            pairs = distinct((self.item[lately].astype(np.int64) << 32) | self._whose()[lately])
            counts = np.bincount(pairs >> 32)
            best = np.argsort(-counts, kind="stable").tolist()
            self._best = [item for item in best if counts[item]]
        has = {int(one) for one in self._theirs(person)[0]}
        return [
            Choice(item, "among the best sellers of the last 180 days")
            for item in self._best
            if item not in has
        ]

    def named(self, value: object) -> list[Choice]:
        """The items that a value of a field of theirs names, by id, code or name."""
        found, _ = named_items(value, self.by_name)
        return [Choice(at, "named in their own field") for at in found]


def item_keys(names: Mapping[int, str], stock: Mapping[int, Stock]) -> dict[str, int]:
    """Item by all that may name it, in small letters: names before codes, codes before our numbers."""
    found = {str(at): at for at in names}
    found |= {stock[at].code.casefold(): at for at in names if at in stock and stock[at].code}
    return found | {name.casefold(): at for at, name in names.items()}


def named_items(value: object, keys: Mapping[str, int]) -> tuple[list[int], list[str]]:
    """The items that a value names, each once, and the pieces that name none.

    A list, or a text with any usual separator: first what it is as a whole, then parted by lines, semicolons
    and bars, by commas, by slashes, by blanks, as far as the pieces are known.
    """
    pieces = [str(one) for one in value] if isinstance(value, (list, tuple)) else [str(value or "")]
    found: list[int] = []
    unknown: list[str] = []
    for piece in pieces:
        _take_piece(piece.strip(), SEPARATORS, keys, found, unknown)
    return list(dict.fromkeys(found)), list(dict.fromkeys(unknown))


def _take_piece(
    piece: str, separators: Sequence[str], keys: Mapping[str, int], found: list[int], unknown: list[str]
) -> None:
    known = keys.get(piece.casefold()) or keys.get(piece.strip(PARTING).casefold())
    if known is not None:
        found.append(known)
        return
    piece = piece.strip(PARTING)
    if not piece:
        return
    for at, separator in enumerate(separators):
        parts = [part.strip() for part in re.split(separator, piece) if part.strip()]
        # blanks and slashes stand within names too: they part only where that leads to something known
        certain = separator in CERTAIN or any(part.casefold() in keys for part in parts)
        if len(parts) > 1 and certain:
            for part in parts:
                _take_piece(part, separators[at:], keys, found, unknown)
            return
    unknown.append(piece)
