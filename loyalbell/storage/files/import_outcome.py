"""What an import did or would do, and the rows it refused."""

import csv
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

from loyalbell.storage.files.import_problems import Groups, Problem


@dataclass
class Counts:
    created: int = 0
    changed: int = 0
    unchanged: int = 0
    refused: int = 0

    def as_json(self) -> dict[str, int]:
        return {
            "created": self.created,
            "changed": self.changed,
            "unchanged": self.unchanged,
            "refused": self.refused,
        }


@dataclass
class Outcome:
    """``left_out`` counts cells that could not be used in rows that were taken; ``found`` is what the file
    holds in all, in figures that somebody can compare with their till.
    """

    counts: Counts = field(default_factory=Counts)
    groups: Groups = field(default_factory=Groups)
    left_out: int = 0
    found: dict[str, Any] = field(default_factory=dict)


def guarded(cell: str) -> str:
    """A cell that a spreadsheet program will not run as a formula."""
    if not cell or cell[0].isalnum():
        return cell
    start = cell.lstrip()
    if start[:1] in ("=", "@"):
        return "'" + cell
    if (
        start[:1] in ("+", "-")
        and not start[1:].replace(" ", "").replace(".", "").replace(",", "").isdecimal()
    ):
        return "'" + cell
    return cell


class Refusals(Protocol):
    """Takes the rows that an import cannot take, and holds what came of the others."""

    outcome: Outcome

    def add(self, number: int, reason: str | Problem, cells: list[str]) -> None: ...

    def leave_out(self, number: int, problem: Problem, cells: list[str]) -> None: ...


class RefusedRows:
    """Writes refused rows with their reason to a file that can be mended and brought in again, and below
    them the rows of which a cell was left out.
    """

    def __init__(self, path: Path, headings: tuple[str, ...], outcome: Outcome) -> None:
        self.outcome = outcome
        self._file = path.open("w", encoding="utf-8-sig", newline="")
        self._writer = csv.writer(self._file)
        self._writer.writerow([*map(guarded, headings), "row", "what became of it", "why"])
        self._width = len(headings)

    def add(self, number: int, reason: str | Problem, cells: list[str]) -> None:
        problem = Problem.of(reason)
        self.outcome.counts.refused += 1
        self.outcome.groups.add(number, problem, cells, left_out=False)
        self._write(number, "refused", problem, cells)

    def leave_out(self, number: int, problem: Problem, cells: list[str]) -> None:
        self.outcome.left_out += 1
        self.outcome.groups.add(number, problem, cells, left_out=True)
        self._write(number, "taken without this cell", problem, cells)

    def _write(self, number: int, became: str, problem: Problem, cells: list[str]) -> None:
        padded = (cells + [""] * self._width)[: max(self._width, len(cells))]
        self._writer.writerow([*map(guarded, padded), number, became, problem.text])

    def __enter__(self) -> "RefusedRows":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()
