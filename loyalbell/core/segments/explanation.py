"""Why somebody is in a segment or not: each line, whether they meet it, and the fact it was judged on."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from loyalbell.core.history.money import say_money
from loyalbell.core.history.snapshot import CHANNELS, CONSENT_STATES
from loyalbell.core.rhythm.bands import BANDS, rhythms
from loyalbell.core.rhythm.return_curve import Part, typical_gap
from loyalbell.core.segments.evaluation import RuleEvaluation, meets_line
from loyalbell.core.segments.history_facts import MEASURES
from loyalbell.core.segments.model import Group
from loyalbell.core.segments.person_facts import FALLBACK_GAP, own_gaps
from loyalbell.core.segments.sentence import Saying, say_condition

# the kinds of diary entry that hold the rows behind a line
ROWS = {
    "orders": "order", "gap": "order", "items": "order", "visits": "visit", "appointments": "appointment", "events": "event",
    "messages": "message", "answers": "answer", "consent": "consent", "reach": "consent", "membership": "membership",
}  # fmt: skip


@dataclass(frozen=True)
class Judged:
    """``fact`` is what the line was judged on; ``rows`` the kind of diary entry with the rows behind it."""

    words: str
    met: bool
    fact: str = ""
    rows: str = ""
    match: str = ""
    lines: list["Judged"] = field(default_factory=list)


def explain(group: Group, evaluation: RuleEvaluation, number: int, saying: Saying) -> list[Judged]:
    """Each line of a group for the person with this number in the ledger. Raises ``RuleProblem``."""
    found = []
    for line in group.lines:
        met = bool(meets_line(line, evaluation)[number])
        if isinstance(line, Group):
            inner = explain(line, evaluation, number, saying)
            found.append(Judged(f"meet {line.match} of these", met, match=line.match, lines=inner))
        else:
            fact = _fact(line, evaluation, number, saying)
            found.append(Judged(say_condition(line, saying), met, fact, ROWS.get(line.about, "")))
    return found


def _fact(line: Any, evaluation: RuleEvaluation, number: int, saying: Saying) -> str:
    if line.about in MEASURES:
        return _measured(line, evaluation, number, saying)
    say = FACTS.get(line.about)
    return say(line, evaluation, number) if say else ""


def _measured(line: Any, evaluation: RuleEvaluation, number: int, saying: Saying) -> str:
    measured = MEASURES[line.about](line, evaluation.context)
    if measured.has is not None and not measured.has[number]:
        return "nothing to go by"
    value = int(measured.values[number])
    measure = getattr(line, "measure", "count")
    if measure == "sum":
        return f"{say_money(value, saying.currency)}"
    if measure == "average":
        scale: Any = measured.scale
        return f"{say_money(round(value / int(scale[number])), saying.currency)} on average"
    if measure == "quantity":
        return f"{value / 1000:g}"
    if measure in ("first", "last"):
        return f"the {measure} was {value} {'day' if value == 1 else 'days'} ago"
    return f"{value} {'day' if measure == 'days' else 'time'}{'' if value == 1 else 's'}"


def _reach(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    snapshot, now = evaluation.snapshot, evaluation.context.now
    channel = CHANNELS.index(line.channel)
    if not snapshot.people.has_address[number, channel]:
        return "no address"
    if snapshot.suppressed(channel, now)[number]:
        return "suppressed"
    return _consent(line, evaluation, number)


def _consent(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    state = evaluation.snapshot.consent_states(CHANNELS.index(line.channel), evaluation.context.now)[number]
    return CONSENT_STATES[int(state)]


def _band(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    part, snapshot, now = Part(department=line.department), evaluation.snapshot, evaluation.context.now
    gap = float(typical_gap(snapshot, now, part) or FALLBACK_GAP)
    found = rhythms(snapshot, now, gap, part)
    band = int(found.band[number])
    if band < 0:
        return "never bought"
    since = evaluation.context.today - int(found.last_day[number])
    return f"{BANDS[band]}: {since} days since the last, usual gap {found.gap[number]:.0f}"


def _gap(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    times, middle = own_gaps(line, evaluation.context)
    count = int(times[number])
    if count < 2:
        return "came once" if count else "never came"
    return f"every {middle[number]:g} days, by {count} {'visits' if line.what == 'visits' else 'days with an order'}"


def _since(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    if line.fact != "since":
        codes = (
            evaluation.snapshot.people.words_of(line.fact) if line.fact not in ("email", "phone") else None
        )
        return "" if codes is None else evaluation.snapshot.words.said[int(codes[number])] or "not known"
    return ""


def _value(line: Any, evaluation: RuleEvaluation, number: int) -> str:
    values = evaluation.snapshot.values_of(line.field, evaluation.context.now)
    rows = np.flatnonzero(values.person == number)
    if not len(rows):
        return "not known"
    said = [
        evaluation.snapshot.words.said[int(values.word[row])] or f"{values.number[row]:g}" for row in rows
    ]
    return ", ".join(said)


FACTS: dict[str, Callable[[Any, RuleEvaluation, int], str]] = {
    "reach": _reach,
    "consent": _consent,
    "band": _band,
    "gap": _gap,
    "person": _since,
    "field": _value,
}
