"""A rule as the fields of the sentence editor, and back."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel, ValidationError
from starlette.datastructures import FormData

from loyalbell.core.history.money import minor_digits, parse_money
from loyalbell.core.segments.conditions import say_condition
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.model import (
    MAX_DEPTH,
    Condition,
    Group,
    LastDays,
    OrdersCondition,
    Rule,
    RuleProblem,
    read_rule,
)
from loyalbell.web.segments.condition_fields import NEVER, PICKS, Field, Offers, PickSpec, picks_of
from loyalbell.web.segments.line_suggestions import STARTERS, LineSuggestion

__all__ = ["STARTERS", "EditorLine", "Offers", "first_rule", "lines_of", "rule_from"]


@dataclass(frozen=True)
class Chooser:
    """One field of a chooser, with what it holds."""

    name: str
    label: str
    kind: str
    value: Any
    options: Sequence[tuple[str, str]] = ()


@dataclass(frozen=True)
class Pick:
    """Words of the sentence that open a chooser."""

    name: str
    words: str
    choosers: list[Chooser]


@dataclass(frozen=True)
class EditorLine:
    """A line, or a group with its own lines, as the editor shows it.

    ``number`` is its place in the whole rule.

    ``alone`` is how many meet it by itself, where that was asked for.
    """

    number: int
    about: str
    said: str
    picks: list[Pick] = field(default_factory=list)
    match: str = ""
    lines: list["EditorLine"] = field(default_factory=list)
    place: int = 0


def first_rule() -> Rule:
    """What a new segment begins with: has ordered before, and not in the last 60 days."""
    return Rule(
        root=Group(
            lines=[
                OrdersCondition(),
                OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60)),
            ]
        )
    )


def lines_of(rule: Rule, saying: Saying, offers: Offers) -> list[EditorLine]:
    counter = iter(range(10_000))

    def shown(line: Group | Condition, place: int) -> EditorLine:
        number = next(counter)
        if isinstance(line, Group):
            inner = [shown(one, at) for at, one in enumerate(line.lines)]
            return EditorLine(number, "group", "a group", match=line.match, lines=inner, place=place)
        picks = [
            Pick(
                pick.name,
                pick.words(line, saying),
                [_chooser(line, one, offers, saying) for one in pick.fields],
            )
            for pick in picks_of(line)
            if not _has_nothing(pick, offers)
        ]
        return EditorLine(number, line.about, say_condition(line, saying), picks, place=place)

    return [shown(line, at) for at, line in enumerate(rule.root.lines)]


def _has_nothing(pick: PickSpec, offers: Offers) -> bool:
    """Whether a pick asks only for something that this shop has none of, such as several places."""
    return bool(pick.fields) and all(one.offer and not getattr(offers, one.offer) for one in pick.fields)


def _chooser(line: Condition, one: Field, offers: Offers, saying: Saying) -> Chooser:
    value: Any = line
    for part in one.name.split("."):
        value = getattr(value, part, None)
    if one.kind == "never" and getattr(line, "value", None) == 0 and value == "exactly":
        value = NEVER
    if one.kind == "amount":
        value = _said_amount(line, value, saying.currency)
    if one.kind == "money" and value is not None:
        value = f"{value / 10 ** minor_digits(saying.currency):g}"
    if one.name == "cells":
        value = [f"{recency}-{frequency}" for recency, frequency in value]
    if one.kind == "checks":
        return Chooser(
            one.name, one.label, one.kind, [str(part) for part in value or ()], one.offered(offers)
        )
    said = "" if value is None else str(value)
    return Chooser(one.name, one.label, _shown_kind(one), said, one.offered(offers))


def _shown_kind(one: Field) -> str:
    return {
        "never": "select",
        "amount": "text",
        "id": "select",
        "money": "text",
        "optional": "text",
        "number": "text",
    }.get(one.kind, one.kind)


def _said_amount(line: Any, value: int | None, currency: str) -> str:
    if value is None:
        return ""
    if getattr(line, "measure", "count") in ("sum", "average"):
        return f"{value / 10 ** minor_digits(currency):g}"
    return str(value) if value or getattr(line, "measure", "count") != "count" else "1"


def rule_from(form: FormData, currency: str, offered: Sequence[LineSuggestion] = STARTERS) -> Rule:
    """The rule that the editor's fields say, after the act (add, remove, move) the form asks for.

    The fields called ``line`` give the lines in order; ``(N`` begins group N and ``)`` ends it.
    Raises ``RuleProblem`` naming the line.
    """
    tokens = [str(token) for token in form.getlist("line")]
    root, paths = _read_group(form, tokens, currency)
    root["match"] = str(form.get("match", "all"))
    _act(root, paths, str(form.get("act", "")), offered)
    return read_rule({"version": 1, "root": root})


Path = tuple[int, ...]
GROUP_END = (")",)


def _read_group(form: FormData, tokens: list[str], currency: str) -> tuple[dict[str, Any], dict[str, Path]]:
    """The nested lines as JSON data, and the path of each line by the number it had on the page."""
    root: dict[str, Any] = {"match": "all", "lines": []}
    stack, paths, place = [root], dict[str, Path](), list[int]()
    for token in tokens:
        if token in GROUP_END:
            if len(stack) > 1:
                stack.pop()
                place.pop()
            continue
        here = stack[-1]["lines"]
        number = token.removeprefix("(")
        paths[number] = (*place, len(here))
        if token.startswith("("):
            if len(stack) > MAX_DEPTH:
                raise RuleProblem(f"Groups are nested more than {MAX_DEPTH} deep.")
            group: dict[str, Any] = {"match": str(form.get(f"{number}.match", "any")), "lines": []}
            place.append(len(here))
            here.append(group)
            stack.append(group)
        else:
            here.append(_read_line(form, number, ".".join(str(at + 1) for at in paths[number]), currency))
    return root, paths


def _act(
    root: dict[str, Any], paths: Mapping[str, Path], act: str, offered: Sequence[LineSuggestion]
) -> None:
    """Adds, takes away or moves a line. ``in`` puts it into the group just above, ``out`` after its group."""
    verb, _, what = act.partition(":")
    if verb in ("add", "add-to"):
        key, _, into = what.partition(">")
        target = _at(root, paths[into]) if into in paths else root
        target["lines"] += [_plain(condition) for starter, _, condition in offered if starter == key]
        if key == "group":
            target["lines"].append({"match": "any", "lines": []})
        return
    if what not in paths:
        return
    path = paths[what]
    siblings = _at(root, path[:-1])["lines"]
    at = path[-1]
    line = siblings.pop(at)
    if verb == "up":
        siblings.insert(max(0, at - 1), line)
    elif verb == "down":
        siblings.insert(at + 1, line)
    elif verb == "in" and at and "match" in siblings[at - 1]:
        siblings[at - 1]["lines"].append(line)
    elif verb == "out" and len(path) > 1:
        _at(root, path[:-2])["lines"].insert(path[-2] + 1, line)
    elif verb != "remove":
        siblings.insert(at, line)


def _at(root: dict[str, Any], path: Path) -> dict[str, Any]:
    for step in path:
        root = root["lines"][step]
    return root


def _plain(condition: BaseModel) -> dict[str, Any]:
    found: dict[str, Any] = condition.model_dump(mode="json")
    return found


def _read_line(form: FormData, number: str, place: str, currency: str) -> dict[str, Any]:
    about = str(form.get(f"{number}.about", ""))
    if about not in PICKS:
        raise RuleProblem(f"Line {place}: it is of a kind that is not known.")
    found: dict[str, Any] = {"about": about}
    for one in (one for pick in PICKS[about].picks for one in pick.fields):
        raw = [str(value).strip() for value in form.getlist(f"{number}.{one.name}")]
        if raw or one.kind == "checks":
            _put(found, one, _value(one, raw, found, place, currency))
    if found.get("comparison") == NEVER:
        found |= {"comparison": "exactly", "value": 0}
    PICKS[about].mend(found)
    return _checked(about, found, place)


def _put(found: dict[str, Any], one: Field, value: Any) -> None:
    target = found
    *before, last = one.name.split(".")
    for part in before:
        target = target.setdefault(part, {})
    target[last] = value


def _value(one: Field, raw: list[str], found: Mapping[str, Any], place: str, currency: str) -> Any:
    text = raw[0] if raw else ""
    if one.kind == "checks":
        return [value for value in raw if value]
    if one.kind == "id":
        return int(text) if text.isdecimal() else None
    if one.kind == "money" or (one.kind == "amount" and found.get("measure") in ("sum", "average")):
        return _money(text, place, currency) if text else None
    if one.kind == "optional":
        return _count(text, one.label, place) if text else None
    if one.kind in ("number", "amount"):
        return _count(text, one.label, place)
    return text or None


def _count(text: str, label: str, place: str) -> int:
    plain = text.replace(",", "")
    if not plain.isdecimal() or int(plain) > 10**9:
        raise RuleProblem(f"Line {place}: give a whole number for “{label.lower()}”, such as 2.")
    return int(plain)


def _money(text: str, place: str, currency: str) -> int:
    try:
        money = parse_money(text, minor_digits(currency))
    except ValueError as error:
        raise RuleProblem(f"Line {place}: give an amount, such as 100.") from error
    if money < 0:
        raise RuleProblem(f"Line {place}: the amount must not be below zero.")
    return money


def _checked(about: str, found: dict[str, Any], place: str) -> dict[str, Any]:
    """The line as the model reads it; facts left empty take their usual value."""
    given = {name: value for name, value in found.items() if value is not None}
    period = given.get("period")
    if isinstance(period, dict):
        names = PERIOD_FIELDS.get(str(period.get("kind")), ())
        given["period"] = {name: value for name, value in period.items() if name == "kind" or name in names}
    try:
        return _plain(PICKS[about].model.model_validate(given))
    except ValidationError as error:
        words = str(error.errors()[0]["msg"]).removeprefix("Value error, ")
        raise RuleProblem(f"Line {place}: {words[:1].lower()}{words[1:]}.") from error


PERIOD_FIELDS = {
    "last days": ("days",),
    "before last days": ("days",),
    "after joining": ("days",),
    "between days ago": ("least", "most"),
    "between dates": ("first", "last"),
}
