"""What an import did or would do, and the rows it refused."""

import csv
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

KEPT_EXAMPLES = 50


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
    """``examples`` are the first refused rows as (row number, reason, cells)."""

    counts: Counts = field(default_factory=Counts)
    examples: list[Any] = field(default_factory=list)


def guarded(cell: str) -> str:
    """A cell that a spreadsheet program will not run as a formula."""
    start = cell.lstrip()
    if start[:1] in ("=", "@"):
        return "'" + cell
    if start[:1] in ("+", "-") and not start[1:].replace(" ", "").replace(".", "").replace(",", "").isdigit():
        return "'" + cell
    return cell


class Refusals(Protocol):
    """Takes the rows that an import cannot take, and holds what came of the others."""

    outcome: Outcome

    def add(self, number: int, reason: str, cells: list[str]) -> None: ...


class RefusedRows:
    """Writes refused rows with their reason to a file that can be mended and brought in again."""

    def __init__(self, path: Path, headings: tuple[str, ...], outcome: Outcome) -> None:
        self.outcome = outcome
        self._file = path.open("w", encoding="utf-8-sig", newline="")
        self._writer = csv.writer(self._file)
        self._writer.writerow([*map(guarded, headings), "row", "why it was refused"])
        self._width = len(headings)

    def add(self, number: int, reason: str, cells: list[str]) -> None:
        self.outcome.counts.refused += 1
        if len(self.outcome.examples) < KEPT_EXAMPLES:
            self.outcome.examples.append([number, reason, [cell[:200] for cell in cells[:40]]])
        padded = (cells + [""] * self._width)[: max(self._width, len(cells))]
        self._writer.writerow([*map(guarded, padded), number, reason])

    def __enter__(self) -> "RefusedRows":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()
