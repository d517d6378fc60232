"""Conditions on what is known about somebody: tags, fields, dates, memberships, rhythm."""

from datetime import date, timedelta
from typing import Any

import numpy as np

from loyalbell.core.history.columns import Ints, Mask, Small
from loyalbell.core.history.snapshot import ENROLMENT_ENDS, NO_DAY
from loyalbell.core.history.visits import EPOCH, day_of_number, local_days
from loyalbell.core.rhythm.bands import BANDS, own_medians, rhythms
from loyalbell.core.rhythm.concentration import concentration
from loyalbell.core.rhythm.return_curve import Part, buying_days, came_days, typical_gap
from loyalbell.core.rhythm.rfm import grid
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.history_facts import COMPARE
from loyalbell.core.segments.model import (
    BandCondition,
    DateCondition,
    FieldCondition,
    GapCondition,
    MembershipCondition,
    OffersCondition,
    PersonCondition,
    RuleProblem,
    ScoresCondition,
    SequencesCondition,
    TagCondition,
    TopCondition,
)

FALLBACK_GAP = 60.0
DAY = 86_400
COMPANION = "companion"
COMPANIONS = f"{COMPANION}:"


def tag(line: TagCondition, context: EvaluationContext) -> Mask:
    held = context.snapshot.tagged(line.tag, context.now)
    return held if line.has else ~held


def field(line: FieldCondition, context: EvaluationContext) -> Mask:
    """Raises ``RuleProblem`` for a field that has been deleted or a value that is none of it."""
    known = context.snapshot.catalogue.fields.get(line.field)
    if known is None:
        raise RuleProblem("It asks for a field that has been deleted.")
    values = context.snapshot.values_of(line.field, context.now)
    has = _any(values.person, context)
    if line.comparison in ("is known", "is not known"):
        return has if line.comparison == "is known" else ~has
    if line.comparison == "is not":
        return has & ~_any(values.person[_field_rows(line, known[1], values, context, "is")], context)
    return _any(values.person[_field_rows(line, known[1], values, context, line.comparison)], context)


def _any(person: Small, context: EvaluationContext) -> Mask:
    out = np.zeros(context.size, dtype=np.bool_)
    out[person] = True
    return out


def _field_rows(
    line: FieldCondition, kind: str, values: Any, context: EvaluationContext, comparison: str
) -> Mask:
    if kind in ("number", "yes or no", "date"):
        return _numbers(line, kind, values.number, context, comparison)
    said = context.snapshot.words.said
    wanted = line.value.casefold()
    held = [said[int(code)].casefold() for code in values.word]
    if comparison == "contains":
        return np.array([wanted in word for word in held], dtype=np.bool_)
    if comparison != "is":
        raise RuleProblem(f"“{comparison}” cannot be asked of a {kind}.")
    return np.array([word == wanted for word in held], dtype=np.bool_)


def _numbers(
    line: FieldCondition, kind: str, numbers: Any, context: EvaluationContext, comparison: str
) -> Mask:
    if comparison in ("in the next days", "in the last days"):
        if kind != "date":
            raise RuleProblem(f"“{comparison}” can be asked of dates only.")
        days = _number(line.value)
        ahead = numbers - context.today
        if comparison == "in the next days":
            return _mask((ahead >= 0) & (ahead <= days))
        return _mask((ahead <= 0) & (-ahead < days))
    value = _field_value(kind, line.value)
    if comparison == "is":
        return _mask(numbers == value)
    if comparison in ("at least", "at most") and kind != "yes or no":
        return _mask(numbers >= value if comparison == "at least" else numbers <= value)
    raise RuleProblem(f"“{comparison}” cannot be asked of a {kind}.")


def _mask(found: Any) -> Mask:
    return np.asarray(found, dtype=np.bool_)


def _field_value(kind: str, text: str) -> float:
    if kind == "yes or no":
        return 1.0 if text.casefold() in ("yes", "true", "1") else 0.0
    if kind == "date":
        try:
            return float((date.fromisoformat(text) - EPOCH).days)
        except ValueError:
            raise RuleProblem(f"“{text}” is not a day such as 2026-05-12") from None
    return _number(text)


def _number(text: str) -> float:
    try:
        return float(text.replace(",", ""))
    except ValueError:
        raise RuleProblem(f"“{text}” is not a number") from None


def yearly(line: DateCondition, context: EvaluationContext) -> Mask:
    """29 February is kept on 28 February in years that lack it."""
    person, month, day = _dates(line.which, context)
    if line.comparison in ("is known", "is not known"):
        known = _any(person, context)
        return known if line.comparison == "is known" else ~known
    if line.comparison == "month":
        return _any(person[month == line.value], context)
    today = day_of_number(context.today)
    if line.comparison == "within":
        wanted = [today + timedelta(days=ahead) for ahead in range(line.value + 1)]
    else:
        wanted = [today + timedelta(days=line.value if line.comparison == "in days" else -line.value)]
    met = np.zeros(len(person), dtype=np.bool_)
    for one in wanted:
        met |= (month == one.month) & (day == one.day)
        if (one.month, one.day) == (2, 28) and not _is_leap(one.year):
            met |= (month == 2) & (day == 29)
    return _any(person[met], context)


def _is_leap(year: int) -> bool:
    return year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)


def _dates(which: str, context: EvaluationContext) -> tuple[Small, Small, Small]:
    snapshot = context.snapshot
    if which == "birthday":
        person = np.flatnonzero(snapshot.people.birthday_month > 0).astype(np.int32)
        return person, snapshot.people.birthday_month[person], snapshot.people.birthday_day[person]
    dates = snapshot.yearly_dates
    if which == COMPANION or which.startswith(COMPANIONS):
        rows = dates.of_companion.copy()
        if which.startswith(COMPANIONS):
            rows &= dates.name == snapshot.words.get(which.removeprefix(COMPANIONS), -1)
    else:
        rows = ~dates.of_companion & (dates.name == snapshot.words.get(which, -1))
    return dates.person[rows], dates.month[rows], dates.day[rows]


def membership(line: MembershipCondition, context: EvaluationContext) -> Mask:
    part, words = context.snapshot.memberships, context.snapshot.words
    kept = part.started <= context.today
    if line.plan is not None:
        kept &= part.plan == words.get(line.plan, -1)
    if line.term is not None:
        kept &= part.term == words.get(line.term, -1)
    ended = (part.ended != NO_DAY) & (part.ended < context.today)
    if line.state == "has ended":
        return _any(part.person[kept & ended], context)
    runs = kept & ~ended
    if line.state == "runs":
        return _any(part.person[runs], context)
    if line.state == "none":
        return ~_any(part.person[runs], context)
    left = part.renews.astype(np.int64) - context.today
    renews = runs & (part.renews != NO_DAY) & (left >= 0)
    return _any(part.person[renews & COMPARE[line.comparison](left, line.days)], context)


def band(line: BandCondition, context: EvaluationContext) -> Mask:
    part = Part(department=line.department)
    gap = float(typical_gap(context.snapshot, context.now, part) or FALLBACK_GAP)
    found = rhythms(context.snapshot, context.now, gap, part).band
    return np.isin(found, [BANDS.index(name) for name in line.bands])


def own_gaps(line: GapCondition, context: EvaluationContext) -> tuple[Ints, Any]:
    """How many days of coming each person has, and the median of the gaps between them in days."""
    if line.what == "visits":
        days = came_days(context.snapshot, context.now, line.department)
    else:
        days = buying_days(context.snapshot, context.now, Part(department=line.department))
    own, middle = own_medians(days, context.today, context.size)
    return np.bincount(days.person, minlength=context.size), np.where(own > 0, middle, 0.0)


def gap(line: GapCondition, context: EvaluationContext) -> Mask:
    times, middle = own_gaps(line, context)
    return _mask((times >= line.fewest) & (middle >= line.low) & (middle <= line.high))


def sequences(line: SequencesCondition, context: EvaluationContext) -> Mask:
    enrolments, now = context.snapshot.enrolments, context.now
    kept = enrolments.at <= now
    if line.sequence is not None:
        kept &= enrolments.sequence == line.sequence
    held_back = enrolments.how == ENROLMENT_ENDS.index("held back")
    since = now - line.days * DAY if line.days else -(2**62)
    if line.state == "under way":
        kept &= enrolments.ended_at > now
    elif line.state == "came in":
        kept &= (enrolments.at > since) & ~held_back
    elif line.state == "held back":
        kept &= (enrolments.at > since) & held_back
    else:
        kept &= (
            (enrolments.how == ENROLMENT_ENDS.index(line.state))
            & (enrolments.ended_at <= now)
            & (enrolments.ended_at > since)
        )
    found = _any(enrolments.person[kept], context)
    return found if line.has else ~found


def offers(line: OffersCondition, context: EvaluationContext) -> Mask:
    codes, now = context.snapshot.codes, context.now
    kept = codes.at <= now
    if line.offer is not None:
        kept &= codes.offer == line.offer
    since = now - line.days * DAY if line.days else -(2**62)
    if line.state == "hold":
        kept &= (codes.until > now) & (codes.used_at > now)
        if line.days:
            kept &= codes.until <= now + line.days * DAY
    elif line.state == "were given":
        kept &= codes.at > since
    elif line.state == "used":
        kept &= (codes.used_at <= now) & (codes.used_at > since)
    else:
        kept &= (codes.until <= now) & (codes.until > since) & (codes.used_at > codes.until)
    held = _any(codes.person[kept], context)
    return held if line.has else ~held


def top(line: TopCondition, context: EvaluationContext) -> Mask:
    found = concentration(context.snapshot, context.now, line.days or None, Part(department=line.department))
    return found.top_people(line.percent / 100)


def scores(line: ScoresCondition, context: EvaluationContext) -> Mask:
    found = grid(context.snapshot, context.now)
    met = np.zeros(context.size, dtype=np.bool_)
    for recency, frequency in line.cells:
        met |= (found.recency == recency) & (found.frequency == frequency)
    return met


def person(line: PersonCondition, context: EvaluationContext) -> Mask:
    people = context.snapshot.people
    if line.fact in ("email", "phone"):
        has: Mask = people.has_address[:, 0 if line.fact == "email" else 1]
        return has if line.comparison != "is not known" else ~has
    if line.fact == "since":
        return _since(line, context)
    codes = people.words_of(line.fact)
    known: Mask = codes > 0
    if line.comparison in ("is known", "is not known"):
        return known if line.comparison == "is known" else ~known
    wanted = line.value.casefold()
    used: Ints = np.unique(codes[known])
    said = {int(code): context.snapshot.words.said[int(code)].casefold() for code in used}
    if line.comparison in ("is", "is not"):
        met = np.isin(codes, [code for code, word in said.items() if word == wanted])
        return met if line.comparison == "is" else known & ~met
    if line.comparison == "begins with":
        return np.isin(codes, [code for code, word in said.items() if word.startswith(wanted)])
    raise RuleProblem(f"“{line.comparison}” cannot be asked of this")


def _since(line: PersonCondition, context: EvaluationContext) -> Mask:
    joined = context.joined
    known = joined > -(2**61)
    if line.comparison not in ("at least", "at most", "exactly"):
        raise RuleProblem(f"“{line.comparison}” cannot be asked of days")
    days = np.zeros(context.size, dtype=np.int64)
    here = known & (joined <= context.now)
    days[here] = context.today - local_days(joined[here], context.snapshot.zone)
    met: Mask = here & COMPARE[line.comparison](days, _number(line.value))
    return met
