"""What the buttons of the editor do to a plan: add, move, take out, shift by days, arms, stop rules, the
goal.
"""

import copy
from collections.abc import Callable

from loyalbell.core.sequences.plan import PlanProblem
from loyalbell.core.sequences.steps import BY_DO
from loyalbell.web.sequences.plan_data import Data, every, inner_lists, lists, new_id

MOST_ARMS = 8


def _place(data: Data, step_id: str) -> tuple[list[Data], int]:
    for steps in lists(data["steps"]):
        for at, step in enumerate(steps):
            if step["id"] == step_id:
                return steps, at
    raise PlanProblem("That step is no longer there. Load the page again.")


def _add(data: Data, kind: str, where: str) -> None:
    """``where``: ``first``, ``after:ID``, or ``in:ID:N`` at the end of the N-th arm of a fork."""
    taken = {step["id"] for step in every(data)}
    made = copy.deepcopy({"do": kind, **BY_DO[kind].new}) | {"id": new_id(taken)}
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


def _copied(step: Data, taken: set[str]) -> Data:
    """The same with identities of its own, also in its arms; what names a step that was copied with it names
    the copy.
    """
    made = copy.deepcopy(step)
    renamed: dict[str, str] = {}
    for one in every({"steps": [made]}):
        renamed[one["id"]] = one["id"] = new_id(taken)
        taken.add(one["id"])
    old = {was: now for was, now in zip(_ids(step), renamed.values(), strict=True)}
    for one in every({"steps": [made]}):
        for arm in one.get("arms", ()):
            if arm.get("step") in old:
                arm["step"] = old[arm["step"]]
    return made


def _ids(step: Data) -> list[str]:
    return [one["id"] for one in every({"steps": [step]})]


def _copy(data: Data, step_id: str) -> None:
    steps, at = _place(data, step_id)
    steps.insert(at + 1, _copied(steps[at], {step["id"] for step in every(data)}))


def _arm_copy(data: Data, step_id: str, number: str) -> None:
    """The arm once more beside it, with its steps; of a random split half of its share."""
    steps, at = _place(data, step_id)
    step = steps[at]
    if len(step["arms"]) >= MOST_ARMS:
        raise PlanProblem("A fork has at most eight arms.")
    taken = {one["id"] for one in every(data)}
    whole = _copied({"do": "lot", "id": step_id, "arms": [step["arms"][int(number)]]}, taken)
    arm = whole["arms"][0]
    if step["do"] == "lot":
        mine = step["arms"][int(number)]
        arm["share"], mine["share"] = mine["share"] // 2, mine["share"] - mine["share"] // 2
        arm["name"] = f"{arm.get('name') or 'arm'} 2"[:60]
    step["arms"].insert(int(number) + 1, arm)


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
    """Moves a note along the line by whole days: the rest before it becomes longer or shorter, or is put
    there.
    """
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
    if len(step["arms"]) >= MOST_ARMS:
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
    "add": _add,
    "copy": _copy,
    "remove": _remove,
    "up": _up,
    "down": _down,
    "shift": _shift,
    "arm-add": _arm_add,
    "arm-copy": _arm_copy,
    "arm-remove": _arm_remove,
    "stop-add": _stop_add,
    "stop-remove": _stop_remove,
    "goal": _goal,
}
