"""What somebody said of the cells of a column: what some of them mean, and that odd ones may be left out."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from loyalbell.storage.records.parsers import CellReader


@dataclass(frozen=True)
class CellRules:
    """``instead``: by target, what a cell (in small letters) stands for; blank for nothing.

    ``blank``: targets whose unusable cells count as blank.
    """

    instead: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    blank: frozenset[str] = frozenset()

    def give(self, readers: Mapping[str, CellReader]) -> None:
        """Tells the readers of cells."""
        for target, reader in readers.items():
            if target in self.instead:
                reader.instead = self.instead[target]
            if target in self.blank:
                reader.odd_is_blank = True

    @classmethod
    def of(cls, given: Mapping[str, Any]) -> "CellRules":
        return cls(given.get("instead", {}), frozenset(given.get("blank", ())))

    def as_json(self) -> dict[str, Any]:
        return {
            "instead": {name: dict(words) for name, words in self.instead.items()},
            "blank": [*self.blank],
        }


NONE = CellRules()
