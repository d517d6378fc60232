"""A plan as plain data while it is being changed: its steps, wherever they stand, and new ones."""

import secrets
from collections.abc import Iterator
from typing import Any

Data = dict[str, Any]
SIGNS = "abcdefghjkmnpqrstuvwxyz23456789"
NEW: dict[str, Data] = {
    "message": {
        "do": "message",
        "channels": ["email"],
        "release": {"kind": "window", "weekdays": [0, 1, 2, 3, 4], "begins": "10:00", "ends": "18:00"},
    },
    "wait": {"do": "wait", "kind": "for", "span": {"amount": 3, "unit": "days"}},
    "fork": {"do": "fork", "arms": [{"did": "clicked", "steps": []}], "otherwise": []},
    "lot": {
        "do": "lot",
        "arms": [{"name": "A", "share": 50, "steps": []}, {"name": "B", "share": 50, "steps": []}],
    },
    "offer": {"do": "offer"},
    "set": {"do": "set"},
    "tell": {"do": "tell", "words": ""},
    "hook": {"do": "hook", "name": ""},
    "hand off": {"do": "hand off", "list": ""},
    "bring": {"do": "bring"},
    "stop contact": {"do": "stop contact"},
    "end": {"do": "end"},
}


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
