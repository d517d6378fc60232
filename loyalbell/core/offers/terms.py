"""Offers: their terms, the codes people hold of them, and what a code is worth at the till."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.money import say_money
from loyalbell.core.validation_errors import say_error

ALPHABET = "34679ACDEFGHJKMNPQRTWXY"
"""23 signs without look-alikes (no 0 O, 1 I L, 2 Z, 5 S, 8 B, U V).

Their number is a prime, as the check asks.
"""
RANDOM_SIGNS = 9
_VALUES = {sign: at for at, sign in enumerate(ALPHABET)}


class Terms(BaseModel):
    """``percent`` of 100, ``amount`` off in minor units, or the item with the id ``item`` free.

    Empty lists in the scope mean everything. ``days`` from issue and ``until`` (a local day, that included)
    may both be given: the earlier counts. ``least`` is the smallest purchase and ``most`` the greatest
    benefit, in minor units.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    version: Literal[1] = 1
    kind: Literal["percent", "amount", "item"] = "percent"
    percent: int = Field(default=10, ge=1, le=100)
    amount: int = Field(default=0, ge=0, le=100_000_000)
    item: int | None = None
    departments: tuple[int, ...] = ()
    categories: tuple[str, ...] = ()
    items: tuple[int, ...] = ()
    least: int = Field(default=0, ge=0)
    most: int | None = Field(default=None, ge=1)
    days: int | None = Field(default=None, ge=1, le=3_650)
    until: date | None = None
    uses: int = Field(default=1, ge=1, le=1_000)

    @model_validator(mode="after")
    def _complete(self) -> Self:
        if self.kind == "amount" and not self.amount:
            raise ValueError("say how much is taken off")
        if self.kind == "item" and self.item is None:
            raise ValueError("say which item is free")
        return self

    @property
    def whole(self) -> bool:
        """Whether it is for the whole purchase."""
        return not (self.departments or self.categories or self.items)


class OfferProblem(ValueError):
    """Terms that cannot be read, in words."""


def read_terms(data: Any) -> Terms:
    """Raises ``OfferProblem``."""
    try:
        return Terms.model_validate(data)
    except ValidationError as error:
        raise OfferProblem(f"{say_error(error.errors()[0])}.") from error


def check_sign(signs: str) -> str:
    """A weighted sum over a prime: every wrong sign and every two that changed places are seen."""
    return ALPHABET[sum((at + 2) * _VALUES[sign] for at, sign in enumerate(signs)) % len(ALPHABET)]


def make_code(below: Callable[[int], int]) -> str:
    """``below(n)`` draws from 0 to n - 1.

    Hand it ``secrets.randbelow``. 23 ** 9 codes: 1.8 in a million million guessed.
    """
    signs = "".join(ALPHABET[below(len(ALPHABET))] for _ in range(RANDOM_SIGNS))
    whole = signs + check_sign(signs)
    return f"{whole[:5]}-{whole[5:]}"


def tidy_code(text: str) -> str | None:
    """A code as it may be typed at the till; ``None`` where it cannot be one of ours."""
    signs = "".join(one for one in text.upper() if one.isalnum())
    if len(signs) != RANDOM_SIGNS + 1 or any(one not in _VALUES for one in signs):
        return None
    return f"{signs[:5]}-{signs[5:]}" if check_sign(signs[:-1]) == signs[-1] else None


def expires(terms: Terms, issued: datetime, zone: str) -> datetime | None:
    """The first instant at which a code issued then no longer holds; ``None`` for never."""
    days = [] if terms.until is None else [terms.until]
    if terms.days is not None:
        days.append(local_day(issued, zone) + timedelta(days=terms.days))
    return start_of_day(min(days) + timedelta(days=1), zone) if days else None


@dataclass(frozen=True)
class Line:
    """One line of a purchase; ``money`` and ``margin`` in minor units."""

    money: int
    item: int | None = None
    category: str | None = None
    department: int | None = None


@dataclass(frozen=True)
class Given:
    """``benefit`` off the purchase and what it ``cost`` the shop, in minor units.

    ``problem`` where nothing is given.
    """

    benefit: int
    cost: int
    problem: str = ""


def in_scope(terms: Terms, line: Line) -> bool:
    return terms.whole or (
        line.item in terms.items or line.category in terms.categories or line.department in terms.departments
    )


def given(terms: Terms, lines: Iterable[Line], item_price: int = 0, item_cost: int | None = None) -> Given:
    """What a code gives on a purchase. ``item_price`` and ``item_cost`` are those of the free item."""
    kept = list(lines)
    whole = sum(line.money for line in kept)
    if whole < terms.least:
        return Given(0, 0, "the purchase is below the smallest one it is for")
    meant = sum(line.money for line in kept if in_scope(terms, line))
    if terms.kind == "item":
        benefit = item_price if terms.most is None else min(item_price, terms.most)
        return Given(benefit, benefit if item_cost is None else min(item_cost, benefit))
    if not meant:
        return Given(0, 0, "nothing in the purchase is what it is for")
    benefit = meant * terms.percent // 100 if terms.kind == "percent" else min(terms.amount, meant)
    benefit = benefit if terms.most is None else min(benefit, terms.most)
    return Given(benefit, benefit)


@dataclass(frozen=True)
class Names:
    """What the ids in terms are called."""

    items: dict[int, str]
    departments: dict[int, str]


def say_benefit(terms: Terms, currency: str, names: Names, country: str = "US") -> str:
    """``10 % off Food``, ``$5.00 off``, ``Oat shampoo free``."""
    if terms.kind == "item":
        return f"{names.items.get(terms.item or 0, 'an item no longer on file')} free"
    off = (
        f"{terms.percent} %"
        if terms.kind == "percent"
        else say_money(terms.amount, currency, country=country)
    )
    what = [
        *(names.items.get(at, "") for at in terms.items),
        *terms.categories,
        *(names.departments.get(at, "") for at in terms.departments),
    ]
    return f"{off} off" + (f" {', '.join(one for one in what if one)}" if not terms.whole else "")


def say_terms(terms: Terms, currency: str, until: str = "", country: str = "US") -> str:
    """The small print: least, most, until, uses.

    ``until`` is the last day it holds, said; empty for the general rule.
    """
    parts = []
    if terms.least:
        parts.append(f"on {say_money(terms.least, currency, country=country)} or more")
    if terms.most is not None:
        parts.append(f"{say_money(terms.most, currency, country=country)} at most")
    if until:
        parts.append(f"until {until}")
    elif terms.days is not None or terms.until is not None:
        days = [f"{terms.days} days from when it is given"] if terms.days is not None else []
        days += [f"until {terms.until.day} {terms.until:%B %Y}"] if terms.until else []
        parts.append(", ".join(days))
    parts.append("once" if terms.uses == 1 else f"{terms.uses} times")
    said = ", ".join(parts)
    return f"{said[:1].upper()}{said[1:]}."


def greatest_cost(terms: Terms, typical_purchase: int, item_cost: int) -> int:
    """What one more use of a code may cost: exact for amounts and items, of a typical purchase for per
    cents.
    """
    if terms.kind == "item":
        return item_cost
    cost = terms.amount if terms.kind == "amount" else typical_purchase * terms.percent // 100
    return cost if terms.most is None else min(cost, terms.most)
