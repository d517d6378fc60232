"""What looks odd about a rule, said beside the line it concerns."""

from dataclasses import dataclass

from loyalbell.core.segments.model import Condition, Ever, Group, LastDays, OrdersCondition, Rule
from loyalbell.core.segments.sentence import says_never


@dataclass(frozen=True)
class Warning:
    """``line`` counts from 0; ``None`` means the rule as a whole."""

    line: int | None
    words: str


def warnings(rule: Rule, counts: list[int]) -> list[Warning]:
    """Warnings for a rule whose ladder is ``counts``."""
    return [*_lapsed_without_before(rule.root), *_lines_without_effect(rule.root, counts)]


def _lapsed_without_before(group: Group) -> list[Warning]:
    if group.match != "all" or any(_asks_for_an_order(line) for line in group.lines):
        return []
    return [
        Warning(at, "This includes people who never ordered at all. Add “have ordered at least once, ever”.")
        for at, line in enumerate(group.lines)
        if isinstance(line, OrdersCondition) and says_never(line) and isinstance(line.period, LastDays)
    ]


def _asks_for_an_order(line: Group | Condition) -> bool:
    if not isinstance(line, OrdersCondition) or line.comparison == "at most":
        return False
    return line.value > 0 and (isinstance(line.period, Ever) or line.period.kind == "before last days")


def _lines_without_effect(group: Group, counts: list[int]) -> list[Warning]:
    found: list[Warning] = []
    if group.match != "all":
        return found
    for at in range(len(group.lines)):
        before, after = counts[at], counts[at + 1]
        if before and not after:
            found.append(Warning(at, "Nobody meets this line together with the ones above."))
        elif before and before == after:
            found.append(Warning(at, "Everybody who is left meets this line; it takes nobody away."))
    return found
