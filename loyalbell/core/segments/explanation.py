"""Why somebody is in a segment or not: each line, whether they meet it, and the fact it was judged on."""

from dataclasses import dataclass, field

from loyalbell.core.segments.conditions import TYPES, say_condition
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.evaluation import RuleEvaluation, meets_line
from loyalbell.core.segments.model import Condition, Group


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
            found.append(Judged(say_condition(line, saying), met, fact, _rows(line)))
    return found


def _fact(line: Condition, evaluation: RuleEvaluation, number: int, saying: Saying) -> str:
    kind = TYPES.get(line.about)
    return kind.fact(line, evaluation.context, number, saying) if kind and kind.fact else ""


def _rows(line: Condition) -> str:
    return TYPES[line.about].rows if line.about in TYPES else ""
