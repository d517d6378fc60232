"""A rule as an English sentence, in the words of the editor."""

from collections.abc import Mapping

from loyalbell.core.money import say_money
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Condition,
    Group,
    LastDays,
    OrdersCondition,
    Period,
    ReachCondition,
    Rule,
)

MATCH_WORDS = {"all": "meet all of these", "any": "meet any of these", "none": "meet none of these"}


def say_period(period: Period) -> str:
    if isinstance(period, LastDays):
        return "today" if period.days == 1 else f"in the last {period.days} days"
    if isinstance(period, BeforeLastDays):
        return "before today" if period.days == 1 else f"more than {period.days} days ago"
    return "ever"


def say_times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count:,} times")


def says_never(line: OrdersCondition) -> bool:
    """Whether the line means that nothing was ordered at all."""
    return line.value == 0 and line.comparison in ("exactly", "at most")


def say_act(line: OrdersCondition) -> str:
    """``ordered``, ``not ordered`` or ``spent``."""
    if line.measure == "sum":
        return "spent"
    return "not ordered" if says_never(line) else "ordered"


def say_amount(line: OrdersCondition, currency: str) -> str:
    if line.measure == "sum":
        return f"{line.comparison} {say_money(line.value, currency)}"
    return "" if says_never(line) else f"{line.comparison} {say_times(line.value)}"


def say_department(line: OrdersCondition, departments: Mapping[int, str]) -> str:
    if line.department is None:
        return "anywhere"
    return "in " + departments.get(line.department, "a department that is no longer on file")


def say_condition(line: Condition, departments: Mapping[int, str], currency: str) -> str:
    if isinstance(line, ReachCondition):
        return f"can{'' if line.can else 'not'} be reached by {line.channel}"
    where = say_department(line, departments) if line.department is not None else ""
    parts = ["have", say_act(line), say_amount(line, currency), where, say_period(line.period)]
    return " ".join(part for part in parts if part)


def say_group(group: Group, departments: Mapping[int, str], currency: str) -> str:
    joiner = " and " if group.match == "all" else " or "
    said = [
        f"({say_group(line, departments, currency)})"
        if isinstance(line, Group)
        else say_condition(line, departments, currency)
        for line in group.lines
    ]
    body = joiner.join(said) or "are on file"
    return f"meet none of these: {body}" if group.match == "none" and said else body


def say_rule(rule: Rule, departments: Mapping[int, str], currency: str) -> str:
    """The whole rule: ``Customers who have ordered at least once ever and ...``."""
    return f"Customers who {say_group(rule.root, departments, currency)}"
