"""A plan as the fields of the sentence editor, and what each act on the page does to it."""

import json
import secrets
from collections.abc import Callable, Iterator
from typing import Any

from starlette.datastructures import FormData

from loyalbell.core.money import parse_money
from loyalbell.core.pacing import Pace
from loyalbell.core.sequences.plan import Plan, PlanProblem, read_plan
from loyalbell.core.windows import Release
from loyalbell.web.visit import number_of, text_of

Data = dict[str, Any]
SIGNS = "abcdefghjkmnpqrstuvwxyz23456789"
NEW: dict[str, Data] = {
    "message": {"do": "message", "channels": ["email"], "release": {"kind": "window", "weekdays": [0, 1, 2, 3, 4], "begins": "10:00", "ends": "18:00"}},
    "wait": {"do": "wait", "kind": "for", "span": {"amount": 3, "unit": "days"}},
    "fork": {"do": "fork", "arms": [{"did": "clicked", "steps": []}], "otherwise": []},
    "lot": {"do": "lot", "arms": [{"name": "A", "share": 50, "steps": []}, {"name": "B", "share": 50, "steps": []}]},
    "offer": {"do": "offer"}, "set": {"do": "set"}, "tell": {"do": "tell", "words": ""}, "hook": {"do": "hook", "name": ""},
    "hand off": {"do": "hand off", "list": ""}, "bring": {"do": "bring"}, "stop contact": {"do": "stop contact"}, "end": {"do": "end"},
}  # fmt: skip
KINDS = (
    ("message", "a message"), ("wait", "a rest"), ("fork", "a fork: the way by what holds"), ("lot", "a random fork: the way by lot"),
    ("offer", "a code of an offer"), ("set", "a tag or a field"), ("tell", "a note for the staff"), ("hand off", "a hand-off list"),
    ("bring", "another sequence as well"), ("hook", "a word to other programs"), ("stop contact", "no more contact"), ("end", "the end"),
)  # fmt: skip
STARTS = (("event", "something happens"), ("lack", "nothing happens for days"), ("date", "a date comes near"), ("segment", "a segment is joined or left"), ("hand", "somebody brings them in by hand"))  # fmt: skip


def new_id(taken: set[str]) -> str:
    while True:
        made = "".join(secrets.choice(SIGNS) for _ in range(5))
        if made not in taken:
            return made


def lists(steps: list[Data]) -> Iterator[list[Data]]:
    """The list itself and every list within its forks."""
    yield steps
    for step in steps:
        for inner in inner_lists(step):
            yield from lists(inner)


def inner_lists(step: Data) -> list[list[Data]]:
    if step["do"] not in ("fork", "lot"):
        return []
    found = [arm.setdefault("steps", []) for arm in step["arms"]]
    return [*found, step.setdefault("otherwise", [])] if step["do"] == "fork" else found


def every(data: Data) -> Iterator[Data]:
    for one in lists(data["steps"]):
        yield from one


def plan_from(form: FormData, digits: int = 2) -> Plan:
    """The plan that the page holds, with what its choosers say and the act that was pressed. Raises ``PlanProblem``."""
    try:
        data: Data = json.loads(text_of(form, "plan"))
    except json.JSONDecodeError as error:
        raise PlanProblem("This page sent something that cannot be read. Load it again.") from error
    read_plan(data)
    overlay(data, form, digits)
    act, _, rest = text_of(form, "act").partition("|")
    if act in ACTS:
        try:
            ACTS[act](data, *(rest.split("|") if rest else ()))
        except (TypeError, ValueError, KeyError, IndexError) as error:
            if isinstance(error, PlanProblem):
                raise
            raise PlanProblem("This page asked for something that cannot be done. Load it again.") from error
    return read_plan(data)


# what the choosers say


def overlay(data: Data, form: FormData, digits: int) -> None:
    _start(data, form, digits)
    for step in every(data):
        _step(step, form, digits)
    if "again.kind" in form:
        data["again"] = {"kind": text_of(form, "again.kind"), "days": _int(form, "again.days", 365)}
    for name in ("held_back", "patience"):
        if name in form:
            data[name] = _int(form, name, 0)
    data["keep_to_it"] = "keep_to_it" in form if "keep_to_it.there" in form else data.get("keep_to_it", False)
    for name in ("only", "stop_when"):
        if name in form:
            data[name] = _rule(form, name)
    data["stops"] = [
        _happening(one, f"stop{at}", form, digits) for at, one in enumerate(data.get("stops", ()))
    ]
    if data.get("goal"):
        goal = data["goal"]
        goal["happening"] = _happening(goal.get("happening", {}), "goal", form, digits)
        for name in ("days", "share"):
            goal[name] = _int(form, f"goal.{name}", goal.get(name, 15))


def _int(form: FormData, name: str, otherwise: int) -> int:
    text = text_of(form, name).strip()
    return int(text) if text.lstrip("-").isdigit() and len(text) < 7 else otherwise


def _rule(form: FormData, name: str) -> Data | None:
    """A rule said in the segments' editor, or being in a saved segment; nothing where none is chosen."""
    said = text_of(form, name)
    if said == "own":
        own: Data | None = json.loads(text_of(form, f"{name}.rule") or "null")
        return own
    if said.isdigit():
        return {
            "version": 1,
            "root": {"match": "all", "lines": [{"about": "segment", "segment": int(said), "within": True}]},
        }
    return None


def _happening(held: Data, at: str, form: FormData, digits: int) -> Data:
    if f"{at}.what" not in form:
        return held
    what = text_of(form, f"{at}.what")
    found: Data = {"what": what}
    for name in ("items", "departments"):
        found[name] = [int(str(one)) for one in form.getlist(f"{at}.{name}") if str(one).isdigit()]
    found["categories"] = [str(one) for one in form.getlist(f"{at}.categories") if str(one)]
    least = text_of(form, f"{at}.least").strip()
    try:
        found["least"] = parse_money(least, digits) if least else None
    except ValueError as error:
        raise PlanProblem(f"{error}. Write amounts like 12.50.") from error
    found["nth"] = _int(form, f"{at}.nth", 0) or None
    found["others"] = f"{at}.others" in form
    if what == "tag":
        found["tag"] = _int(form, f"{at}.tag", 0) or held.get("tag") or 0
    if what == "event":
        found["event"] = text_of(form, f"{at}.event").strip() or held.get("event") or "signed in"
    if what == "answer":
        found["low"], found["high"] = _int(form, f"{at}.low", 0), _int(form, f"{at}.high", 100)
    return found


def _start(data: Data, form: FormData, digits: int) -> None:
    if "start.on" not in form:
        return
    on, held = text_of(form, "start.on"), data.get("start", {})
    start: Data = {"on": on}
    if on in ("event", "lack"):
        start["happening"] = _happening(held.get("happening", {"what": "order"}), "start", form, digits)
    if on == "lack":
        start["days"] = max(_int(form, "start.days", held.get("days", 60)), 1)
    if on == "date":
        start["which"] = text_of(form, "start.which") or held.get("which", "birthday")
        days = _int(form, "start.days", abs(held.get("days", 0)))
        start["days"] = -days if text_of(form, "start.side", "before") == "before" else days
    if on == "segment":
        start["way"] = text_of(form, "start.way") or held.get("way", "joins")
        start["rule"] = (
            _rule(form, "start.rule")
            or held.get("rule")
            or {"version": 1, "root": {"match": "all", "lines": []}}
        )
    if on in ("lack", "date", "segment"):
        start["at"] = text_of(form, "start.at") or held.get("at", "09:00")
    data["start"] = start


def _weekdays(form: FormData, name: str, otherwise: list[int]) -> list[int]:
    return [int(str(one)) for one in form.getlist(name) if str(one).isdigit()] or otherwise


def _step(step: Data, form: FormData, digits: int) -> None:
    at = step["id"]
    if f"{at}.there" in form:
        read = _STEP.get(step["do"])
        if read is not None:
            read(step, at, form, digits)


def _message(step: Data, at: str, form: FormData, digits: int) -> None:
    step["message"] = _int(form, f"{at}.message", 0) or None
    step["channels"] = text_of(form, f"{at}.channels", "email").split()
    step["release"] = {
        "kind": text_of(form, f"{at}.release", "at once"), "weekdays": _weekdays(form, f"{at}.weekdays", [0, 1, 2, 3, 4, 5, 6]),
        "begins": text_of(form, f"{at}.begins") or "10:00", "ends": text_of(form, f"{at}.ends") or "18:00",
    }  # fmt: skip


def _wait(step: Data, at: str, form: FormData, digits: int) -> None:
    step["kind"] = text_of(form, f"{at}.kind", "for")
    step["span"] = {"amount": _int(form, f"{at}.amount", 3), "unit": text_of(form, f"{at}.unit", "days")}
    step["weekdays"] = _weekdays(form, f"{at}.weekdays", [0, 1, 2, 3, 4, 5, 6])
    step["at"], step["day"] = text_of(form, f"{at}.at") or "09:00", text_of(form, f"{at}.day")
    step["happening"] = _happening(step.get("happening", {"what": "order"}), at, form, digits)


def _fork(step: Data, at: str, form: FormData, digits: int) -> None:
    for number, arm in enumerate(step["arms"]):
        name = f"{at}.arm{number}"
        said = text_of(form, name)
        arm["denied"] = f"{name}.denied" in form
        if said in ("got", "opened", "clicked", "replied"):
            arm |= {"did": said, "rule": None, "step": text_of(form, f"{name}.step") or None}
        elif said:
            arm |= {"did": None, "step": None, "rule": _rule(form, name) or arm.get("rule") or {"version": 1, "root": {"match": "all", "lines": []}}}  # fmt: skip


def _lot(step: Data, at: str, form: FormData, digits: int) -> None:
    for number, arm in enumerate(step["arms"]):
        arm["name"] = text_of(form, f"{at}.arm{number}.name", arm.get("name", ""))[:60]
    shares = [_int(form, f"{at}.arm{number}.share", arm["share"]) for number, arm in enumerate(step["arms"])]
    shares = [min(max(share, 0), 100) for share in shares]
    shares[-1] = 100 - sum(shares[:-1])
    if shares[-1] < 0:
        raise PlanProblem("The shares of a random fork come to more than 100 %.")
    for arm, share in zip(step["arms"], shares, strict=True):
        arm["share"] = share


def _set(step: Data, at: str, form: FormData, digits: int) -> None:
    kind, _, number = text_of(form, f"{at}.target").partition(":")
    step["tag"] = int(number) if kind in ("tag", "off") and number.isdigit() else None
    step["off"] = kind == "off"
    step["field"] = int(number) if kind == "field" and number.isdigit() else None
    step["value"] = text_of(form, f"{at}.value")[:200]


def _plain(*names: str, number: bool = False) -> Callable[[Data, str, FormData, int], None]:
    def read(step: Data, at: str, form: FormData, digits: int) -> None:
        for name in names:
            step[name] = (_int(form, f"{at}.{name}", 0) or None) if number else text_of(form, f"{at}.{name}")

    return read


def _quiet(step: Data, at: str, form: FormData, digits: int) -> None:
    step["channels"] = [str(one) for one in form.getlist(f"{at}.channels")] or ["email", "text", "chat"]


_STEP: dict[str, Callable[[Data, str, FormData, int], None]] = {
    "message": _message, "wait": _wait, "fork": _fork, "lot": _lot, "set": _set, "stop contact": _quiet,
    "offer": _plain("offer", number=True), "bring": _plain("sequence", number=True), "tell": _plain("words"),
    "hook": _plain("name"), "hand off": _plain("list"),
}  # fmt: skip


# acts


def _place(data: Data, step_id: str) -> tuple[list[Data], int]:
    for steps in lists(data["steps"]):
        for at, step in enumerate(steps):
            if step["id"] == step_id:
                return steps, at
    raise PlanProblem("That step is no longer there. Load the page again.")


def _add(data: Data, kind: str, where: str) -> None:
    """``where``: ``first``, ``after:ID``, or ``in:ID:N`` at the end of the N-th arm of a fork."""
    taken = {step["id"] for step in every(data)}
    made = json.loads(json.dumps(NEW[kind])) | {"id": new_id(taken)}
    if kind == "set":
        made |= {"tag": None}
    how, _, rest = where.partition(":")
    if how == "first":
        data["steps"].insert(0, made)
    elif how == "last":
        data["steps"].append(made)
    elif how == "in":
        step_id, _, number = rest.partition(":")
        steps, at = _place(data, step_id)
        inner_lists(steps[at])[int(number)].append(made)
    else:
        steps, at = _place(data, rest)
        steps.insert(at + 1, made)


def _remove(data: Data, step_id: str) -> None:
    steps, at = _place(data, step_id)
    del steps[at]


def _up(data: Data, step_id: str) -> None:
    steps, at = _place(data, step_id)
    if at:
        steps[at - 1], steps[at] = steps[at], steps[at - 1]


def _down(data: Data, step_id: str) -> None:
    steps, at = _place(data, step_id)
    if at + 1 < len(steps):
        steps[at + 1], steps[at] = steps[at], steps[at + 1]


def _shift(data: Data, step_id: str, days: str) -> None:
    """Moves a note along the line by whole days: the rest before it becomes longer or shorter, or is put there."""
    steps, at = _place(data, step_id)
    by = int(days)
    wait = (
        steps[at]
        if steps[at]["do"] == "wait"
        else steps[at - 1]
        if at and steps[at - 1]["do"] == "wait"
        else None
    )
    if wait is None:
        if by > 0:
            taken = {step["id"] for step in every(data)}
            steps.insert(
                at, {"do": "wait", "id": new_id(taken), "kind": "for", "span": {"amount": by, "unit": "days"}}
            )
        return
    span = wait["span"]
    if span["unit"] == "weeks":
        span |= {"amount": span["amount"] * 7, "unit": "days"}
    elif span["unit"] in ("hours", "minutes"):
        span |= {"amount": 0, "unit": "days"}
    elif span["unit"] == "months":
        span |= {"amount": span["amount"] * 30, "unit": "days"}
    span["amount"] = max(span["amount"] + by, 0)


def _arm_add(data: Data, step_id: str) -> None:
    steps, at = _place(data, step_id)
    step = steps[at]
    if len(step["arms"]) >= 8:
        raise PlanProblem("A fork has at most eight arms.")
    if step["do"] == "lot":
        step["arms"].append({"name": "ABCDEFGH"[len(step["arms"])], "share": 0, "steps": []})
        even = 100 // len(step["arms"])
        for arm in step["arms"]:
            arm["share"] = even
        step["arms"][-1]["share"] = 100 - even * (len(step["arms"]) - 1)
    else:
        step["arms"].append({"did": "opened", "steps": []})


def _arm_remove(data: Data, step_id: str, number: str) -> None:
    steps, at = _place(data, step_id)
    step = steps[at]
    least = 2 if step["do"] == "lot" else 1
    if len(step["arms"]) <= least:
        raise PlanProblem("A fork keeps at least " + ("two arms." if least == 2 else "one arm."))
    gone = step["arms"].pop(int(number))
    if step["do"] == "lot":
        step["arms"][-1]["share"] += gone["share"]


def _stop_add(data: Data) -> None:
    data.setdefault("stops", []).append({"what": "order"})


def _stop_remove(data: Data, number: str) -> None:
    del data["stops"][int(number)]


def _goal(data: Data, there: str) -> None:
    data["goal"] = {"happening": {"what": "order"}, "days": 30, "share": 15} if there == "1" else None


ACTS: dict[str, Callable[..., None]] = {
    "add": _add, "remove": _remove, "up": _up, "down": _down, "shift": _shift, "arm-add": _arm_add, "arm-remove": _arm_remove,
    "stop-add": _stop_add, "stop-remove": _stop_remove, "goal": _goal,
}  # fmt: skip


def read_pace(form: FormData) -> Pace | None:
    """How fast people are let in; ``None`` for all at once. Raises ``ValueError``."""
    if text_of(form, "how") != "paced":
        return None
    weekdays = tuple(int(str(one)) for one in form.getlist("weekdays") if str(one).isdigit()) or (
        0,
        1,
        2,
        3,
        4,
    )
    hours = Release(kind="window", weekdays=weekdays, begins=text_of(form, "begins") or "09:00", ends=text_of(form, "ends") or "17:00")  # fmt: skip
    return Pace(number_of(form, "batch") or 50, (number_of(form, "every") or 15) * 60, hours)
