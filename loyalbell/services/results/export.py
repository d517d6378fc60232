"""The table of results for other programs: CSV, a spreadsheet, and plain values for JSON."""

import csv
import io
from collections.abc import Sequence
from typing import Any

from openpyxl import Workbook

from loyalbell.services.results.overview import ResultRow
from loyalbell.storage.files.import_outcome import guarded

NAMES = (
    "kind",
    "id",
    "name",
    "state",
    "channels",
    "delivered_people",
    "came_back_people",
    "came_back_days",
    "orders",
    "revenue_minor",
    "cost_minor",
    "currency",
    "compared_people",
    "held_back_people",
    "added_per_1000_low",
    "added_per_1000_best",
    "added_per_1000_high",
    "verdict",
    "weeks_to_go",
)


def values_of(row: ResultRow, currency: str) -> dict[str, Any]:
    """One row by ``NAMES``; money in minor units, ``None`` where a figure is not known."""
    interval = row.judged.interval
    added = [None] * 3 if interval is None else [round(1_000 * bound, 1) for bound in interval]
    values = [
        *(row.origin[0], row.origin[1], row.name, row.state, " ".join(row.channels)),
        *(row.delivered, row.came_back, row.days, row.orders, row.revenue, row.cost, currency),
        *(row.treated, row.held, *added, row.judged.verdict.value, row.weeks_to_go),
    ]
    return dict(zip(NAMES, values, strict=True))


def as_csv(rows: Sequence[ResultRow], currency: str) -> str:
    """With a heading; text that a spreadsheet would take for a formula is marked as text."""
    out = io.StringIO()
    writer = csv.DictWriter(out, NAMES, lineterminator="\r\n")
    writer.writeheader()
    for row in rows:
        values = values_of(row, currency)
        values["name"] = guarded(row.name)
        writer.writerow(values)
    return out.getvalue()


def as_sheet(rows: Sequence[ResultRow], currency: str) -> bytes:
    """The same as a spreadsheet (XLSX), numbers as numbers."""
    book = Workbook(write_only=True)
    sheet = book.create_sheet("results")
    sheet.append(list(NAMES))
    for row in rows:
        values = values_of(row, currency)
        values["name"] = guarded(row.name)
        sheet.append([values[name] for name in NAMES])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
