"""Cells and rows that an import cannot use, grouped by what is wrong, so that one mend helps all alike."""

import re
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

KEPT_EXAMPLES, KEPT_VALUES, SHOWN_VALUES = 5, 2_000, 30
LONGEST = 120


@dataclass(frozen=True)
class Problem:
    """What is wrong with a row or a cell. ``cause`` is what all rows of its group have in common; ``target``
    and ``value`` are the cell's meaning and text, where it is one cell.
    """

    text: str
    cause: str = ""
    target: str = ""
    value: str = ""

    @classmethod
    def of(cls, reason: "str | Problem") -> "Problem":
        return reason if isinstance(reason, Problem) else cls(reason, reason)


def without_values(text: str) -> str:
    """What sentences about different cells have in common."""
    return re.sub(r"“[^”]*”", "…", re.sub(r"\brow \d+", "another row", text))


@dataclass
class Group:
    """``left_out``: the cell was left out and the row taken; else the row was refused."""

    cause: str
    target: str
    left_out: bool
    rows: int = 0
    values: Counter[str] = field(default_factory=Counter)
    examples: list[list[Any]] = field(default_factory=list)

    def add(self, number: int, problem: Problem, cells: list[str]) -> None:
        self.rows += 1
        if problem.value in self.values or len(self.values) < KEPT_VALUES:
            self.values[problem.value] += 1
        if len(self.examples) < KEPT_EXAMPLES:
            self.examples.append([number, problem.text, [cell[:LONGEST] for cell in cells[:20]]])

    def as_json(self) -> dict[str, Any]:
        return {
            "cause": self.cause,
            "target": self.target,
            "left_out": self.left_out,
            "rows": self.rows,
            "values": [[value[:LONGEST], times] for value, times in self.values.most_common(SHOWN_VALUES)],
            "distinct": len(self.values),
            "examples": self.examples,
        }


class Groups:
    """All groups of one import."""

    def __init__(self) -> None:
        self._groups: dict[tuple[str, str, bool], Group] = {}

    def add(self, number: int, problem: Problem, cells: list[str], left_out: bool) -> None:
        key = (problem.cause or problem.text, problem.target, left_out)
        if key not in self._groups:
            self._groups[key] = Group(*key)
        self._groups[key].add(number, problem, cells)

    def as_json(self) -> list[dict[str, Any]]:
        """The refused rows first, the larger groups first."""
        found = sorted(self._groups.values(), key=lambda group: (group.left_out, -group.rows))
        return [group.as_json() for group in found]
