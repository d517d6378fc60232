"""A rule as the fields of the sentence editor, and back."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal, TypeVar, cast

from starlette.datastructures import FormData

from loyalbell.core.money import minor_digits, parse_money
from loyalbell.core.segments.model import (
    BeforeLastDays,
    Condition,
    Ever,
    Group,
    LastDays,
    OrdersCondition,
    Period,
    ReachCondition,
    Rule,
    RuleProblem,
    read_rule,
)
from loyalbell.core.segments.sentence import (
    say_act,
    say_amount,
    say_condition,
    say_department,
    say_period,
)

Line = TypeVar("Line", OrdersCondition, ReachCondition)
FEWEST_DAYS, MOST_DAYS = 1, 36_500

STARTERS: tuple[tuple[str, str, Condition], ...] = (
    ("ordered", "have ordered at least once", OrdersCondition()),
    (
        "not-ordered",
        "have not ordered in the last 60 days",
        OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60)),
    ),
    (
        "often",
        "have ordered at least 3 times in the last 365 days",
        OrdersCondition(value=3, period=LastDays(days=365)),
    ),
    ("once", "have ordered exactly once", OrdersCondition(comparison="exactly")),
    (
        "spent",
        "have spent at least 100 in the last 365 days",
        OrdersCondition(measure="sum", value=10_000, period=LastDays(days=365)),
    ),
    ("long-ago", "have ordered more than 365 days ago", OrdersCondition(period=BeforeLastDays(days=365))),
    ("reach-email", "can be reached by email", ReachCondition(channel="email")),
    ("reach-text", "can be reached by text", ReachCondition(channel="text")),
    ("no-reach", "cannot be reached by email", ReachCondition(channel="email", can=False)),
)


@dataclass(frozen=True)
class EditorLine:
    """One line as the editor shows it; ``words`` by pick, ``fields`` as the form holds them."""

    number: int
    about: str
    said: str
    words: dict[str, str]
    fields: dict[str, str]


def first_rule() -> Rule:
    """What a new segment begins with: has ordered before, and not in the last 60 days."""
    return Rule(root=Group(lines=[STARTERS[0][2], STARTERS[1][2]]))


def lines_of(rule: Rule, departments: Mapping[int, str], currency: str) -> list[EditorLine]:
    return [
        _line(number, line, departments, currency)
        for number, line in enumerate(rule.root.lines)
        if not isinstance(line, Group)
    ]


def _line(number: int, line: Condition, departments: Mapping[int, str], currency: str) -> EditorLine:
    said = say_condition(line, departments, currency)
    if isinstance(line, ReachCondition):
        words = {
            "can": "can be reached" if line.can else "cannot be reached",
            "channel": f"by {line.channel}",
        }
        fields = {"can": "1" if line.can else "0", "channel": line.channel}
        return EditorLine(number, "reach", said, words, fields)
    act = say_act(line)
    words = {
        "act": act,
        "amount": say_amount(line, currency),
        "department": say_department(line, departments),
        "period": say_period(line.period),
    }
    value = str(line.value) if line.measure == "count" else f"{line.value / 10 ** minor_digits(currency):g}"
    fields = {
        "act": act,
        "comparison": line.comparison if act != "not ordered" else "at least",
        "value": value if act != "not ordered" else "1",
        "department": str(line.department or ""),
        "period": line.period.kind,
        "days": "60" if isinstance(line.period, Ever) else str(line.period.days),
    }
    return EditorLine(number, "orders", said, words, fields)


def rule_from(form: FormData, currency: str) -> Rule:
    """The rule that the editor's fields say, after the act (add, remove, move) the form asks for.

    Raises ``RuleProblem`` naming the line.
    """
    lines = [
        _read_line(form, str(number), at, currency) for at, number in enumerate(form.getlist("line"), start=1)
    ]
    match = form.get("match", "all")
    return read_rule(
        {
            "version": 1,
            "root": {
                "match": match,
                "lines": [line.model_dump() for line in _acted(lines, str(form.get("act", "")))],
            },
        }
    )


def _acted(lines: list[Condition], act: str) -> list[Condition]:
    verb, _, what = act.partition(":")
    if verb == "add":
        return lines + [condition for key, _, condition in STARTERS if key == what]
    if verb in ("remove", "up", "down") and what.isdigit() and int(what) < len(lines):
        at = int(what)
        line = lines.pop(at)
        if verb != "remove":
            lines.insert(max(0, at - 1) if verb == "up" else at + 1, line)
    return lines


def _read_line(form: FormData, number: str, place: int, currency: str) -> Condition:
    def field(name: str) -> str:
        return str(form.get(f"{number}.{name}", "")).strip()

    if field("about") == "reach":
        channel = cast(Literal["email", "text", "chat"], field("channel"))
        return _made(ReachCondition, place, channel=channel, can=field("can") == "1")
    act = field("act")
    if act == "not ordered":
        measured: dict[str, Any] = {"comparison": "exactly", "value": 0}
    elif act == "spent":
        measured = {
            "measure": "sum",
            "comparison": field("comparison"),
            "value": _money(field("value"), place, currency),
        }
    else:
        measured = {"comparison": field("comparison"), "value": _count(field("value"), place)}
    department = field("department")
    return _made(
        OrdersCondition,
        place,
        department=int(department) if department.isdigit() else None,
        period=_period(field("period"), field("days"), place),
        **measured,
    )


def _made(kind: type[Line], place: int, **values: Any) -> Line:
    try:
        return kind(**values)
    except ValueError as error:
        raise RuleProblem(f"Line {place}: one of its picks is not understood.") from error


def _count(text: str, place: int) -> int:
    if not text.isdigit() or int(text) > 100_000:
        raise RuleProblem(f"Line {place}: give a number of times, such as 2.")
    return int(text)


def _money(text: str, place: int, currency: str) -> int:
    try:
        money = parse_money(text, minor_digits(currency))
    except ValueError as error:
        raise RuleProblem(f"Line {place}: give an amount, such as 100.") from error
    if money < 0:
        raise RuleProblem(f"Line {place}: the amount must not be below zero.")
    return money


def _period(kind: str, days: str, place: int) -> Period:
    if kind == "ever":
        return Ever()
    if not days.isdigit() or not FEWEST_DAYS <= int(days) <= MOST_DAYS:
        raise RuleProblem(f"Line {place}: give a number of days from {FEWEST_DAYS} to {MOST_DAYS:,}.")
    return LastDays(days=int(days)) if kind == "last days" else BeforeLastDays(days=int(days))
