"""The made-up orders: each habit lived through day by day."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from random import Random

from loyalbell.core.clock.local_time import at_local
from loyalbell.demo.people import Habit, MadeUp
from loyalbell.demo.vocabulary import CAFE, CATALOGUE, CLINIC, GROOM, SHOP

MINUTES_OPEN = {
    SHOP: (9 * 60, 18 * 60),
    GROOM: (8 * 60, 16 * 60),
    CLINIC: (8 * 60, 17 * 60),
    CAFE: (9 * 60, 15 * 60),
}
SATURDAY, SUNDAY = 5, 6
_BY_DEPARTMENT = {
    name: [at for at, item in enumerate(CATALOGUE) if item[2] == name] for name in (SHOP, GROOM, CLINIC, CAFE)
}
_WINTER_BOX = next(at for at, item in enumerate(CATALOGUE) if item[0] == "Winter box")


@dataclass
class Bought:
    """One made-up order. ``lines`` are (catalogue number, thousandths, cents)."""

    person: int
    department: str
    at: datetime
    lines: list[tuple[int, int, int]]
    fate: str


def orders_of(person: MadeUp, now: datetime, zone: str, rng: Random) -> Iterator[Bought]:
    """Everything a person bought before ``now``."""
    for habit in person.habits:
        favourites = favourites_in(habit.department, rng)
        for day in _days(habit, person.joined, rng):
            low, high = MINUTES_OPEN[habit.department]
            minutes = rng.randrange(low, high)
            at = at_local(day, time(minutes // 60, minutes % 60), zone)
            if at >= now:
                break
            drawn = rng.random()
            fate = "cancelled" if drawn < 0.01 else "refunded" if drawn < 0.02 else "kept"
            yield Bought(person.number, habit.department, at, lines_of(habit, favourites, day, rng), fate)


def favourites_in(department: str, rng: Random) -> list[int]:
    """Two things of a department, by their places in the catalogue."""
    return rng.sample(_BY_DEPARTMENT[department], k=2)


def _days(habit: Habit, joined: date, rng: Random) -> Iterator[date]:
    day = joined
    while True:
        yield opening_day(day, habit.department)
        gap = max(1.0, rng.gauss(habit.gap, habit.gap * habit.spread))
        day += timedelta(days=round(gap))
        if day > habit.until:
            return


def opening_day(day: date, department: str) -> date:
    """The café is for weekends; everything else rests on Sundays."""
    if department == CAFE and day.weekday() not in (SATURDAY, SUNDAY):
        return day + timedelta(days=SATURDAY - day.weekday())
    if department != CAFE and day.weekday() == SUNDAY:
        return day + timedelta(days=1)
    return day


def lines_of(habit: Habit, favourites: list[int], day: date, rng: Random) -> list[tuple[int, int, int]]:
    main = favourites[0] if rng.random() < 0.8 else favourites[1]
    lines = [(main, 1000, CATALOGUE[main][3])]
    if habit.department in (SHOP, CAFE) and rng.random() < 0.45:
        extra = rng.choice(_BY_DEPARTMENT[habit.department])
        count = rng.choice((1, 1, 1, 2))
        lines.append((extra, count * 1000, count * CATALOGUE[extra][3]))
    if habit.department == SHOP and day.month == 12 and rng.random() < 0.25:
        lines.append((_WINTER_BOX, 1000, CATALOGUE[_WINTER_BOX][3]))
    return lines
