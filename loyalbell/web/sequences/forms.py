"""A plan as the fields of the sentence editor, and what each act on the page does to it."""

import json
import re
from collections.abc import Callable, Sequence
from datetime import date, datetime, time

from starlette.datastructures import FormData

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.local_time import at_local
from loyalbell.core.clock.pacing import Pace
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.core.history.money import parse_money
from loyalbell.core.sequences.plan import Plan, PlanProblem, read_plan
from loyalbell.core.sequences.steps import BY_DO
from loyalbell.core.sequences.steps.base import Pick
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.web.json_text import read_json
from loyalbell.web.request import RequestContext, number_of, text_of
from loyalbell.web.sequences.plan_data import Data, every
from loyalbell.web.sequences.plan_edits import ACTS

WORKING_DAYS = (0, 1, 2, 3, 4)
STARTS = (
    ("event", "something happens"),
    ("lack", "nothing happens for some time"),
    ("date", "a date comes near"),
    ("segment", "a segment is joined or left"),
    ("hand", "people are added by hand"),
)


def plan_from(form: FormData, digits: int = 2) -> Plan:
    """The plan that the page holds, with what its choosers say and the act that was pressed.

    Raises ``PlanProblem``.
    """
    try:
        data: Data = read_json(text_of(form, "plan"))
    except json.JSONDecodeError as error:
        raise PlanProblem("This page sent something that cannot be read. Load it again.") from error
    read_plan(data)
    data.setdefault("steps", [])
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
        _event_filter(one, f"stop{at}", form, digits) for at, one in enumerate(data.get("stops", ()))
    ]
    if data.get("goal"):
        goal = data["goal"]
        goal["happening"] = _event_filter(goal.get("happening", {}), "goal", form, digits)
        for name in ("days", "share"):
            goal[name] = _int(form, f"goal.{name}", goal.get(name, 15))


def _int(form: FormData, name: str, otherwise: int) -> int:
    text = text_of(form, name).strip()
    return int(text) if text.lstrip("-").isdecimal() and len(text) < 7 else otherwise


def _rule(form: FormData, name: str) -> Data | None:
    """A rule said in the segments' editor, or being in a saved segment; nothing where none is chosen."""
    said = text_of(form, name)
    if said == "own":
        own: Data | None = read_json(text_of(form, f"{name}.rule") or "null")
        return own
    if said.isdecimal():
        return {
            "version": 1,
            "root": {"match": "all", "lines": [{"about": "segment", "segment": int(said), "within": True}]},
        }
    return None


def _event_filter(held: Data, at: str, form: FormData, digits: int) -> Data:
    if f"{at}.what" not in form:
        return held
    what = text_of(form, f"{at}.what")
    found: Data = {"what": what}
    for name in ("items", "departments"):
        found[name] = [int(str(one)) for one in form.getlist(f"{at}.{name}") if str(one).isdecimal()]
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
        start["happening"] = _event_filter(held.get("happening", {"what": "order"}), "start", form, digits)
    if on == "lack":
        amount = max(_int(form, "start.days", held.get("days", 60)), 1)
        unit = text_of(form, "start.unit", "days")
        start |= {"days": amount} if unit == "days" else {"elapsed": {"amount": amount, "unit": unit}}
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
    if on in ("lack", "date", "segment") and "elapsed" not in start:
        start["at"] = text_of(form, "start.at") or held.get("at", "09:00")
    data["start"] = start


def _weekdays(form: FormData, name: str, otherwise: list[int]) -> list[int]:
    return [int(str(one)) for one in form.getlist(name) if str(one).isdecimal()] or otherwise


def _step(step: Data, form: FormData, digits: int) -> None:
    at = step["id"]
    if f"{at}.there" in form:
        read = _OF_ITS_OWN.get(step["do"])
        if read is not None:
            read(step, at, form, digits)
        else:
            _picks(step, at, form, BY_DO[step["do"]].sentence)


def _message(step: Data, at: str, form: FormData, digits: int) -> None:
    step["message"] = _int(form, f"{at}.message", 0) or None
    step["channels"] = text_of(form, f"{at}.channels", "email").split()
    step["release"] = {
        "kind": text_of(form, f"{at}.release", "at once"),
        "weekdays": _weekdays(form, f"{at}.weekdays", [0, 1, 2, 3, 4, 5, 6]),
        "begins": text_of(form, f"{at}.begins") or "10:00",
        "ends": text_of(form, f"{at}.ends") or "18:00",
    }


def _wait(step: Data, at: str, form: FormData, digits: int) -> None:
    step["kind"] = text_of(form, f"{at}.kind", "for")
    step["span"] = {"amount": _int(form, f"{at}.amount", 3), "unit": text_of(form, f"{at}.unit", "days")}
    step["weekdays"] = _weekdays(form, f"{at}.weekdays", [0, 1, 2, 3, 4, 5, 6])
    step["at"], step["day"] = text_of(form, f"{at}.at") or "09:00", text_of(form, f"{at}.day")
    step["happening"] = _event_filter(step.get("happening", {"what": "order"}), at, form, digits)


def _fork(step: Data, at: str, form: FormData, digits: int) -> None:
    for number, arm in enumerate(step["arms"]):
        name = f"{at}.arm{number}"
        said = text_of(form, name)
        arm["denied"] = f"{name}.denied" in form
        if said in ("got", "opened", "clicked", "replied"):
            arm |= {"did": said, "rule": None, "step": text_of(form, f"{name}.step") or None}
        elif said:
            arm |= {
                "did": None,
                "step": None,
                "rule": _rule(form, name)
                or arm.get("rule")
                or {"version": 1, "root": {"match": "all", "lines": []}},
            }


def _random_split(step: Data, at: str, form: FormData, digits: int) -> None:
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
    step["tag"] = int(number) if kind in ("tag", "off") and number.isdecimal() else None
    step["off"] = kind == "off"
    step["field"] = int(number) if kind == "field" and number.isdecimal() else None
    step["value"] = text_of(form, f"{at}.value")[:200]


def _picks(step: Data, at: str, form: FormData, sentence: Sequence[str | Pick]) -> None:
    """What the choosers of a step's own sentence say."""
    for pick in sentence:
        if not isinstance(pick, Pick):
            continue
        name = f"{at}.{pick.field}"
        if pick.of == "channels":
            step[pick.field] = [str(channel) for channel in form.getlist(name)] or list(CHANNELS)
        else:
            step[pick.field] = (_int(form, name, 0) or None) if pick.of else text_of(form, name)


_OF_ITS_OWN: dict[str, Callable[[Data, str, FormData, int], None]] = {
    "message": _message,
    "wait": _wait,
    "fork": _fork,
    "lot": _random_split,
    "set": _set,
}


# acts


def read_pace(form: FormData) -> Pace | None:
    """How fast people are let in; ``None`` for all at once. Raises ``ValueError``, ``SequenceProblem``."""
    if text_of(form, "how") != "paced":
        return None
    weekdays = (
        tuple(int(str(one)) for one in form.getlist("weekdays") if str(one).isdecimal()) or WORKING_DAYS
    )
    hours = SendWindow(
        kind="window",
        weekdays=weekdays,
        begins=text_of(form, "begins") or "09:00",
        ends=text_of(form, "ends") or "17:00",
    )
    return Pace(_whole(form, "batch", 50), _whole(form, "every", 15) * 60, hours)


def _whole(form: FormData, name: str, usual: int) -> int:
    """``usual`` where nothing is typed. Raises ``SequenceProblem`` for what is no number."""
    typed, number = text_of(form, name).strip(), number_of(form, name)
    if not typed:
        return usual
    if not number or number < 1:
        raise SequenceProblem(f"“{typed[:20]}” is no number. Write it in figures, such as {usual}.")
    return number


ADDED_BEFORE = "These people were already added. Open the page again to add them a second time."


def key_of_page(form: FormData) -> str:
    """By which people come in once from one page, however often it is sent; empty where it names none."""
    once = text_of(form, "once")
    return f"by hand {once}" if re.fullmatch(r"[0-9a-f]{16}", once) else ""


def from_when(context: RequestContext, form: FormData) -> datetime | None:
    """``None`` for now. Raises ``SequenceProblem`` without a day, or for one that has passed."""
    if text_of(form, "when") != "later":
        return None
    if not text_of(form, "day"):
        raise SequenceProblem("Choose the day on which it should start, or choose now.")
    try:
        day = date.fromisoformat(text_of(form, "day"))
        clock = time.fromisoformat(text_of(form, "clock") or "09:00")
    except ValueError:
        raise SequenceProblem("Write the day as 2026-03-31 and the time as 09:00.") from None
    at = at_local(day, clock, context.application.the_shop().zone)
    if at <= context.application.clock.now():
        raise SequenceProblem("That day and hour have passed. Choose a later one, or now.")
    return at
