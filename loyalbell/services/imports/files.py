"""The files of imports: where they are kept, how they are read, and what their first rows hold."""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

from loyalbell.services.application import Application
from loyalbell.storage.files.tables.apart import as_table_apart
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.table_reader import (
    Reading,
    TableShape,
    first_rows,
    read_rows,
    shape_of,
)
from loyalbell.storage.schema import ImportRun

SAMPLE_ROWS = 200
SHOWN_SAMPLES = 3


def folder(application: Application) -> Path:
    path = application.data / "imports"
    path.mkdir(exist_ok=True)
    return path


def file_of(application: Application, run: ImportRun) -> Path:
    """The table: the file itself where it is text, else what was made of it."""
    return folder(application) / f"{run.id}.table"


def source_of(application: Application, run: ImportRun) -> Path:
    """The file as it came, where a table had to be made of it."""
    return folder(application) / f"{run.id}.source"


def refused_file(application: Application, run_id: int) -> Path:
    return folder(application) / f"{run_id}-refused.csv"


def reading_of(mapping: Mapping[str, Any]) -> Reading:
    return Reading(**(mapping.get("reading") or {}))


def shape(application: Application, run: ImportRun) -> TableShape:
    """How a run's file is written. Raises ``FileProblem``."""
    country = application.the_shop().country
    return shape_of(file_of(application, run), reading_of(run.mapping), country)


@dataclass(frozen=True)
class Table:
    """A file that is being chosen: its shape, its first rows, and what making a table of it told."""

    shape: TableShape
    samples: list[list[str]]
    source: dict[str, Any]
    kind: str | None = None


def look_at(application: Application, source: Path, table: Path, kind: str | None, reading: Reading) -> Table:
    """Makes a table of a file where needed and looks at its start. Raises ``FileProblem``."""
    shop = application.the_shop()
    made = as_table_apart(source, table, kind, shop.zone, reading.sheet)
    path = table if made else source
    found = shape_of(path, reading, shop.country)
    samples = rows_of(path, found)
    if not samples:
        raise FileProblem("The file has a heading but no rows below it.")
    told: dict[str, Any] = {}
    if made and made.sheets:
        told |= {"sheet": made.sheet, "sheets": list(made.sheets)}
    if made and made.left_out:
        told["left_out"] = list(made.left_out[:20])
    return Table(found, samples, told, made.kind if made else None)


def rows_of(path: Path, found: TableShape, many: int = SAMPLE_ROWS) -> list[list[str]]:
    with path.open("rb") as file:
        return [cells for _, cells in islice(read_rows(file, found), many)]


def samples_of(path: Path, found: TableShape) -> list[list[str]]:
    """The first few cells of each column that are not blank, a list a column."""
    columns: list[list[str]] = [[] for _ in found.headings]
    for cells in rows_of(path, found):
        for column, cell in zip(columns, cells, strict=False):
            short = cell.strip()[:60]
            if short and len(column) < SHOWN_SAMPLES and short not in column:
                column.append(short)
    return columns


def start_of(application: Application, run: ImportRun) -> list[list[str]]:
    """The rows at the start of a file as they stand, for choosing its heading among them."""
    found = shape(application, run)
    return first_rows(file_of(application, run), found.encoding, found.separator)
