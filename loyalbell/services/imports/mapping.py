"""What the columns of a file mean: guessed, remembered from earlier files, said by a person."""

from collections.abc import Mapping
from typing import Any
from zoneinfo import available_timezones

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.services.imports import files
from loyalbell.storage.files.columns.agreed_since import LONGEST_WORDING, SINCE
from loyalbell.storage.files.columns.column_guess import guess_map
from loyalbell.storage.files.columns.column_mapping import ColumnMap, map_problem, shape_key
from loyalbell.storage.files.columns.file_targets import NEW, TARGETS
from loyalbell.storage.files.columns.heading_words import plain_heading
from loyalbell.storage.files.customers.custom_columns import own_targets
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.records.date_cells import read_moment
from loyalbell.storage.records.targets import Target
from loyalbell.storage.schema import CustomField, ImportRun

REMEMBERED_RUNS = 30
KEPT = ("reading", "source", "rules", "agreed", "totals_of", "make_people", "mark")
"""What a map keeps when only the meaning of its columns is said anew."""


def guess_for(application: Application, kind: str, table: files.Table) -> dict[str, Any]:
    """The likeliest map of a file, as a run keeps it."""
    shop = application.the_shop()
    with application.database.reading() as session:
        remembered = _remembered(session, kind, table.shape.headings)
        own = own_targets(session) if kind == "customers" else ()
        known = _known_headings(session, kind)
    if remembered is not None:
        return remembered | {"source": table.source}
    found = guess_map(kind, table.shape.headings, table.samples, shop.zone, shop.country, own, known)
    return found.as_json(table.shape.headings) | {"source": table.source}


def _remembered(session: Session, kind: str, headings: tuple[str, ...]) -> dict[str, Any] | None:
    """How the newest file with the same columns was read, where one was brought in."""
    found = session.scalar(
        select(ImportRun)
        .where(ImportRun.shape == shape_key(kind, headings), ImportRun.state.in_(("done", "undone")))
        .order_by(ImportRun.id.desc())
        .limit(1)
    )
    if found is None:
        return None
    mapping = {name: value for name, value in found.mapping.items() if name not in ("source", "reading")}
    columns = _with_fields_made(session, found.mapping["columns"])
    return {**mapping, "columns": columns, "remembered": found.filename}


def _with_fields_made(session: Session, columns: Mapping[str, str]) -> dict[str, str]:
    """A column that made a new field then is one of that field now."""
    fields = {
        f"new:{field.kind}:{field.name}": f"field:{field.id}"
        for field in session.scalars(select(CustomField))
    }
    made = ("new:yearly:", "new:id:")
    return {
        fields.get(target, target.removeprefix("new:") if target.startswith(made) else target): heading
        for target, heading in columns.items()
    }


def _known_headings(session: Session, kind: str) -> dict[str, str]:
    """What headings meant in the newest files of a kind, whatever else stood in those."""
    runs = session.scalars(
        select(ImportRun)
        .where(ImportRun.kind == kind, ImportRun.state == "done")
        .order_by(ImportRun.id.desc())
        .limit(REMEMBERED_RUNS)
    )
    found: dict[str, str] = {}
    for run in runs:
        for target, heading in _with_fields_made(session, run.mapping["columns"]).items():
            found.setdefault(plain_heading(heading), target)
    return found


def targets_of(application: Application, kind: str) -> tuple[Target, ...]:
    """What a column of such a file may mean in this shop."""
    with application.database.reading() as session:
        return (*TARGETS[kind], *(own_targets(session) if kind == "customers" else ()))


def apply_map(application: Application, run_id: int, given: Mapping[str, object]) -> None:
    """Reads the file by a map: ``columns`` (target to heading), and what else a run's map may hold
    (``ColumnMap``) if wished.

    Raises ``FileProblem`` where the map names what is not there.
    """
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        headings = files.shape(application, run).headings
        columns = given.get("columns")
        if not isinstance(columns, dict):
            raise FileProblem("The map needs “columns”: an object from what a column means to its heading.")
        known = {target.name for target in targets_of(application, run.kind)}
        for target, heading in columns.items():
            if target not in known and not target.startswith(tuple(f"{new}:" for new in NEW)):
                raise FileProblem(
                    f"The map names “{target}”, which {run.kind} do not have. Known:"
                    f" {', '.join(sorted(known))}."
                )
            if heading not in headings:
                raise FileProblem(f"The map names the column “{heading}”, which the file does not have.")
        day_first = bool(given.get("day_first", run.mapping["day_first"]))
        zone = _zone(str(given.get("zone", run.mapping["zone"])))
        more = {name: given[name] for name in ("totals_of", "make_people", "mark") if name in given}
        agreed = given.get("agreed")
        if isinstance(agreed, dict):
            more["agreed"] = read_agreed(agreed, day_first)
        run.mapping = _kept(run) | {"columns": columns, "day_first": day_first, "zone": zone} | more


def _kept(run: ImportRun) -> dict[str, Any]:
    return {name: run.mapping[name] for name in KEPT if name in run.mapping}


def _zone(name: str) -> str:
    if name not in available_timezones():
        raise FileProblem(f"“{name}” is not a time zone such as America/New_York.")
    return name


def read_agreed(given: Mapping[str, Any], day_first: bool) -> dict[str, str]:
    """Since when and to what the people of a file agreed, as a map keeps it. Raises ``FileProblem``."""
    since, day = str(given.get("since") or "now"), str(given.get("day") or "").strip()
    if since not in SINCE:
        raise FileProblem(f"“{since}” does not say since when they agreed; use {', '.join(SINCE)}.")
    if since == "day":
        try:
            moment = read_moment(day, day_first)
        except ValueError:
            raise FileProblem("Say the day since which they have agreed, like 2026-05-12.") from None
        day = f"{moment:%Y-%m-%d}"
    wording = str(given.get("wording") or "").strip()[:LONGEST_WORDING]
    return {"since": since, "day": day if since == "day" else "", "wording": wording}


def set_map(
    application: Application, run_id: int, columns: Mapping[str, str], more: Mapping[str, Any]
) -> str | None:
    """Keeps which heading means which target, and ``more`` of the map. Returns what is still lacking, or
    ``None``.
    """
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        named = {
            f"{target}:{heading}" if target in NEW else target: heading for target, heading in columns.items()
        }
        zone = _zone(str(more.get("zone") or run.mapping["zone"]))
        run.mapping = _kept(run) | dict(more) | {"columns": named, "zone": zone}
        run.state = "new"
        headings = files.shape(application, run).headings
        return map_problem(run.kind, column_map(run, headings).columns)


def change_map(application: Application, run_id: int, **more: Any) -> None:
    """Changes a part of a run's map; the file is to be tried out again."""
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        run.mapping = run.mapping | more
        run.state = "new"


def column_map(run: ImportRun, headings: tuple[str, ...]) -> ColumnMap:
    return ColumnMap.of(run.mapping, headings)
