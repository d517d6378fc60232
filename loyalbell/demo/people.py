"""The made-up customers, each with habits that draw their history."""

from dataclasses import dataclass, field
from datetime import date, timedelta
from random import Random

from loyalbell.demo.vocabulary import (
    AREA_CODES,
    CAFE,
    CITIES,
    CLINIC,
    COMPANIONS,
    FAR_ZONES,
    FIRST_NAMES,
    GROOM,
    KINDS,
    LAST_NAMES,
    SHOP,
    STREETS,
)

HABIT_SHARES = {SHOP: 0.66, GROOM: 0.34, CLINIC: 0.46, CAFE: 0.28}
EMAIL_HOSTS = ("example.com", "example.org", "example.net")


@dataclass
class Habit:
    """How somebody uses one department: usual days between visits, and until when they keep it up."""

    department: str
    gap: float
    spread: float
    until: date


@dataclass
class MadeUp:
    """One made-up customer."""

    number: int
    first_name: str | None
    last_name: str | None
    email: str | None
    phone: str | None
    zone: str
    joined: date
    street: str
    place: tuple[str, str, str]
    birthday: tuple[int | None, int, int] | None
    companions: list[tuple[str, str, tuple[int, int, int]]]
    consents: dict[str, str]
    habits: list[Habit] = field(default_factory=list)


def make_people(count: int, first_day: date, last_day: date, rng: Random) -> list[MadeUp]:
    """``count`` customers who joined between the two days; the same for the same ``rng`` state."""
    return [_one(number, first_day, last_day, rng) for number in range(1, count + 1)]


def _one(number: int, first_day: date, last_day: date, rng: Random) -> MadeUp:
    first, last = rng.choice(FIRST_NAMES), rng.choice(LAST_NAMES)
    joined = first_day + timedelta(days=int((last_day - first_day).days * rng.random() ** 1.25))
    person = MadeUp(
        number=number,
        first_name=first if rng.random() > 0.045 else None,
        last_name=last if rng.random() > 0.03 else None,
        email=_email(first, last, number, rng),
        phone=_phone(number, rng),
        zone=rng.choice(FAR_ZONES) if rng.random() < 0.05 else "America/New_York",
        joined=joined,
        street=f"{rng.randint(1, 240)} {rng.choice(STREETS)}",
        place=rng.choice(CITIES),
        birthday=_birthday(rng),
        companions=[_companion(last_day, rng) for _ in range(rng.choice((0, 1, 1, 1, 1, 2, 3)))],
        consents={"email": _consent(rng, 0.74), "text": _consent(rng, 0.46)},
    )
    person.habits = _habits(joined, last_day, rng)
    return person


def _email(first: str, last: str, number: int, rng: Random) -> str | None:
    if rng.random() < 0.07:
        return None
    plain = "".join(c for c in f"{first}.{last}".lower() if c.isascii() and (c.isalpha() or c == "."))
    return f"{plain}{number}@{rng.choice(EMAIL_HOSTS)}"


def _phone(number: int, rng: Random) -> str | None:
    if rng.random() < 0.18:
        return None
    shared = rng.random() < 0.02 and number > 1
    place = number - 1 if shared else number
    return f"+1{AREA_CODES[place // 100 % len(AREA_CODES)]}55501{place % 100:02d}"


def _birthday(rng: Random) -> tuple[int | None, int, int] | None:
    if rng.random() < 0.55:
        return None
    day = date(2000, 1, 1) + timedelta(days=rng.randrange(366))
    return (rng.randint(1940, 2006) if rng.random() < 0.6 else None), day.month, day.day


def _companion(last_day: date, rng: Random) -> tuple[str, str, tuple[int, int, int]]:
    born = last_day - timedelta(days=rng.randint(90, 14 * 365))
    return rng.choice(COMPANIONS), rng.choice(KINDS), (born.year, born.month, born.day)


def _consent(rng: Random, agreed: float) -> str:
    drawn = rng.random()
    if drawn < agreed:
        return "agreed"
    if drawn < agreed + 0.08:
        return "refused"
    return "waiting" if drawn < agreed + 0.11 else "never asked"


def _habits(joined: date, last_day: date, rng: Random) -> list[Habit]:
    chosen = [name for name, share in HABIT_SHARES.items() if rng.random() < share] or [SHOP]
    moves_away = joined + timedelta(days=int(rng.expovariate(1 / 2200)))
    return [_habit(name, joined, min(moves_away, last_day), rng) for name in chosen]


def _habit(department: str, joined: date, end: date, rng: Random) -> Habit:
    gap, spread, kept = {
        SHOP: (rng.lognormvariate(3.45, 0.35), 0.28, 700),
        GROOM: (rng.uniform(42, 56), 0.16, 620),
        CLINIC: (rng.uniform(355, 380), 0.05, 1500),
        CAFE: (rng.lognormvariate(2.6, 0.6), 0.6, 420),
    }[department]
    drops = joined + timedelta(days=int(rng.expovariate(1 / kept)))
    once_only = rng.random() < 0.22
    return Habit(department, gap, spread, joined if once_only else min(drops, end))
