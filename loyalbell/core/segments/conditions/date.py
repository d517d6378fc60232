"""Birthdays and other dates that come back each year."""

from collections.abc import Iterator, Sequence
from datetime import date, timedelta
from typing import Literal

import numpy as np
from pydantic import Field

from loyalbell.core.clock.yearly import kept_on
from loyalbell.core.history.columns import Column, Mask, Small
from loyalbell.core.history.settled import worked_out
from loyalbell.core.history.snapshot import People
from loyalbell.core.history.visits import day_of_number, today_number
from loyalbell.core.segments.conditions.base import ConditionType, ShortText
from loyalbell.core.segments.conditions.measuring import any_of
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part

COMPANION = "companion"
DAYS_WIDE = 32


COMPANIONS = f"{COMPANION}:"


MONTHS = "January February March April May June July August September October November December".split()


class DateCondition(Part):
    """A day that comes round every year: ``birthday``, a companion's birthday, or a named one.

    ``in days``: exactly that many days ahead; ``days ago``; ``within``: today or in the next days;
    ``month``: 1 to 12.
    """

    about: Literal["date"] = "date"
    which: ShortText = "birthday"
    comparison: Literal["in days", "days ago", "within", "month", "is known", "is not known"] = "in days"
    value: int = Field(default=0, ge=0, le=365)


def meets(line: DateCondition, context: EvaluationContext) -> Mask:
    """Each person's days are those of their own zone where one is on file (rules of the job, section 1)."""
    person, day = _dates(line.which, context)
    if line.comparison in ("is known", "is not known"):
        known = any_of(person, context)
        return known if line.comparison == "is known" else ~known
    if line.comparison == "month":
        return any_of(person[day // DAYS_WIDE == line.value], context)
    met = np.zeros(len(person), dtype=np.bool_)
    for of_zone, today in _todays(person, context):
        met |= of_zone & _on(_wanted(line, today), day, context.snapshot.leap_day)
    return any_of(person[met], context)


def _todays(person: Small, context: EvaluationContext) -> Iterator[tuple[Mask | np.bool_, date]]:
    """Which rows are of people of a zone, and what day it is there, zone by zone."""
    snapshot = context.snapshot
    all_codes = snapshot.people.words_of("zone")
    if not worked_out(snapshot.people, "any zone", lambda: bool(all_codes.any())):
        yield np.True_, day_of_number(context.today)
        return
    codes = all_codes[person]
    for code in np.unique(codes).tolist():
        zone = snapshot.words.said[code] if code else snapshot.zone
        yield codes == code, day_of_number(today_number(context.now, zone))


def _wanted(line: DateCondition, today: date) -> list[date]:
    if line.comparison == "within":
        return [today + timedelta(days=ahead) for ahead in range(line.value + 1)]
    return [today + timedelta(days=line.value if line.comparison == "in days" else -line.value)]


def _on(days: Sequence[date], day: Column, leap_day: str) -> Mask:
    wanted = np.zeros(13 * DAYS_WIDE, dtype=np.bool_)
    for one in days:
        for of_month, of_day in kept_on(one, leap_day):
            wanted[of_month * DAYS_WIDE + of_day] = True
    found: Mask = wanted[day]
    return found


def _dates(which: str, context: EvaluationContext) -> tuple[Small, Column]:
    """Whose, and the day of the year as ``month * DAYS_WIDE + day``."""
    snapshot = context.snapshot
    if which == "birthday":
        return worked_out(snapshot.people, "birthdays", lambda: _birthdays(snapshot.people))
    dates = snapshot.yearly_dates
    if which == COMPANION or which.startswith(COMPANIONS):
        rows = dates.of_companion.copy()
        if which.startswith(COMPANIONS):
            rows &= dates.name == snapshot.words.get(which.removeprefix(COMPANIONS), -1)
    else:
        rows = ~dates.of_companion & (dates.name == snapshot.words.get(which, -1))
    return dates.person[rows], dates.month[rows] * DAYS_WIDE + dates.day[rows]


def _birthdays(people: People) -> tuple[Small, Column]:
    person = np.flatnonzero(people.birthday_month > 0).astype(np.int32)
    day = people.birthday_month[person] * DAYS_WIDE + people.birthday_day[person]
    return person, day.astype(np.int16)


def say(line: DateCondition, saying: Saying) -> str:
    which = {"birthday": "their birthday", "companion": "a companion’s birthday"}.get(line.which)
    if which is None:
        kind = line.which.removeprefix("companion:")
        which = f"a {kind}’s birthday" if kind != line.which else f"their {line.which}"
    if "known" in line.comparison:
        return f"have {which} that {line.comparison}"
    if line.comparison == "month":
        return f"have {which} in {MONTHS[line.value - 1] if 1 <= line.value <= 12 else 'no month'}"
    if line.comparison == "within":
        return f"have {which} today or in the next {line.value} days" if line.value else f"have {which} today"
    if line.value == 0:
        return f"have {which} today"
    return (
        f"have {which} in exactly {line.value} days"
        if line.comparison == "in days"
        else f"had {which} exactly {line.value} days ago"
    )


CONDITION = ConditionType(DateCondition, meets, say)
