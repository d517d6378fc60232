"""What looks odd about a rule, said beside the line it concerns."""

from collections.abc import Mapping
from dataclasses import dataclass

from loyalbell.core.segments.conditions.wording import says_never
from loyalbell.core.segments.model import (
    Condition,
    Ever,
    FieldCondition,
    Group,
    LastDays,
    OrdersCondition,
    Rule,
)

SPARSE = 0.2


@dataclass(frozen=True)
class Warning:
    """``line`` counts from 0; ``None`` means the rule as a whole."""

    line: int | None
    words: str


def warnings(rule: Rule, counts: list[int], last_week: int | None = None) -> list[Warning]:
    """Warnings for a rule whose ladder is ``counts``; ``last_week`` is its size seven days ago."""
    return [
        *_lapsed_without_before(rule.root),
        *_lines_without_effect(rule.root, counts),
        *_contradictions(rule.root),
        *_empty_groups(rule.root),
        *_unlike_last_week(counts[-1], last_week),
    ]


def _contradictions(group: Group) -> list[Warning]:
    """Lines of one kind that ask for the opposite of each other."""
    if group.match != "all":
        return []
    found = []
    for at, line in enumerate(group.lines):
        for before, other in enumerate(group.lines[:at]):
            if _opposite(line, other):
                found.append(Warning(at, f"This is the opposite of line {before + 1}; nobody can meet both."))
    return found


def _opposite(one: Group | Condition, other: Group | Condition) -> bool:
    if isinstance(one, Group) or isinstance(other, Group) or one.about != other.about:
        return False
    first, second = one.model_dump(), other.model_dump()
    differing = {name for name in first if first[name] != second[name]}
    if differing in ({"can"}, {"has"}, {"within"}):
        return True
    if not isinstance(one, OrdersCondition) or not isinstance(other, OrdersCondition):
        return False
    same = differing <= {"comparison", "value"} and one.measure == "count"
    return same and (_most(one) < _least(other) or _most(other) < _least(one))


def _most(line: OrdersCondition) -> float:
    return float("inf") if line.comparison == "at least" else line.value


def _least(line: OrdersCondition) -> float:
    return 0 if line.comparison == "at most" else line.value


def _empty_groups(group: Group) -> list[Warning]:
    return [
        Warning(at, "This group is empty, so it asks for nothing.")
        for at, line in enumerate(group.lines)
        if isinstance(line, Group) and not line.lines
    ]


def _unlike_last_week(now: int, before: int | None) -> list[Warning]:
    """Far above or below: more than twice, or less than half, and by more than 20 people."""
    if before is None or abs(now - before) <= 20 or before <= 2 * now <= 4 * before:
        return []
    return [
        Warning(None, f"This is far {'above' if now > before else 'below'} its size a week ago, {before:,}.")
    ]


def sparse_fields(rule: Rule, known: Mapping[int, float]) -> list[Warning]:
    """Lines on fields that few people have; ``known`` is the share by field id."""
    return [
        Warning(at, f"This field is known for {known[line.field]:.0%} of the book only.")
        for at, line in enumerate(rule.root.lines)
        if isinstance(line, FieldCondition)
        and "known" not in line.comparison
        and known.get(line.field, 1) < SPARSE
    ]


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
