"""A plan as plain data while it is being changed: its steps, wherever they stand, and new ones."""

import secrets
from collections.abc import Iterator
from typing import Any

Data = dict[str, Any]
SIGNS = "abcdefghjkmnpqrstuvwxyz23456789"


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
