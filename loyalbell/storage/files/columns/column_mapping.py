"""Which column of a file means what, and how its cells are read."""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from loyalbell.storage.files.columns.agreed_since import FROM_NOW_ON, AgreedSince
from loyalbell.storage.files.columns.cell_rules import CellRules
from loyalbell.storage.files.columns.heading_words import plain_heading
from loyalbell.storage.records.kinds import RECORDS


@dataclass(frozen=True)
class ColumnMap:
    """``columns`` maps a target to the number of its column, from 0.

    ``mark`` is the decimal mark of its amounts, where it is known. ``totals_of`` says which of two totals of
    an order holds: the *file*'s own, or the sum of its *lines*; blank while nobody has said. ``make_people``:
    orders of people who are not on file make them.
    """

    columns: Mapping[str, int]
    zone: str
    day_first: bool = False
    notes: tuple[str, ...] = field(default=())
    mark: str | None = None
    rules: CellRules = field(default_factory=CellRules)
    agreed: AgreedSince = FROM_NOW_ON
    totals_of: str = ""
    make_people: bool = False

    def as_json(self, headings: Sequence[str]) -> dict[str, Any]:
        named = {target: headings[at] for target, at in self.columns.items()}
        return {
            "columns": named,
            "zone": self.zone,
            "day_first": self.day_first,
            "notes": list(self.notes),
            "mark": self.mark,
        }

    @classmethod
    def of(cls, mapping: Mapping[str, Any], headings: Sequence[str]) -> "ColumnMap":
        """The map that a run keeps, for a file with these headings."""
        at = {heading: number for number, heading in enumerate(headings)}
        zone, agreed = mapping["zone"], mapping.get("agreed") or {}
        return cls(
            {target: at[heading] for target, heading in mapping["columns"].items() if heading in at},
            zone,
            mapping["day_first"],
            mark=mapping.get("mark"),
            rules=CellRules.of(mapping.get("rules") or {}),
            agreed=AgreedSince(**{**agreed, "zone": zone}) if agreed else FROM_NOW_ON,
            totals_of=mapping.get("totals_of", ""),
            make_people=bool(mapping.get("make_people")),
        )


def shape_key(kind: str, headings: Sequence[str]) -> str:
    """What two files with the same columns have in common."""
    return hashlib.sha256("\x1f".join((kind, *map(plain_heading, headings))).encode()).hexdigest()[:32]


def map_problem(kind: str, columns: Mapping[str, int]) -> str | None:
    """What a map still lacks, in words, or ``None``."""
    if kind in RECORDS:
        return RECORDS[kind].lacking(columns.keys())
    if kind == "customers":
        if not columns.keys() & {"id", "email", "phone", "chat_handle"}:
            return "Say which column holds the customer id, the email or the phone: one of them is needed."
        return None
    if "order_id" not in columns:
        return "Say which column holds the order id, so that the same file can be imported twice safely."
    if kind == "order-lines":
        if columns.keys() & {"line_total", "unit_price"}:
            return None
        return "Say which column holds the line total, or the price of one."
    if not columns.keys() & {"customer_id", "email", "phone"}:
        return "Say which column tells whose order it is: customer id, email or phone."
    if "placed" not in columns:
        return "Say which column holds the day or time of the order."
    if not columns.keys() & {"total", "line_total", "unit_price"}:
        return "Say which column holds the order total, the line total, or the price of one."
    return None
