"""Bringing a file in: keep it, guess its columns, try it out, bring it in whole or not at all."""

import gc
import shutil
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import BinaryIO
from zoneinfo import available_timezones

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.services.background_work import Report
from loyalbell.services.imports import under_way
from loyalbell.storage.files.column_mapping import (
    KINDS,
    NEW,
    TARGETS,
    ColumnMap,
    guess_map,
    map_problem,
    shape_key,
)
from loyalbell.storage.files.conversion import as_table
from loyalbell.storage.files.custom_columns import own_targets
from loyalbell.storage.files.customer_import import CustomersIn
from loyalbell.storage.files.import_outcome import Outcome, RefusedRows
from loyalbell.storage.files.import_undo import undo, what_depends
from loyalbell.storage.files.order_import import OrdersIn
from loyalbell.storage.files.order_line_import import LinesIn
from loyalbell.storage.files.record_import import RecordsIn
from loyalbell.storage.files.table_reader import FileProblem, Row, TableShape, read_rows, shape_of
from loyalbell.storage.long_write import Breathe, LongWrite, never
from loyalbell.storage.records.kinds import RECORDS
from loyalbell.storage.records.targets import Target
from loyalbell.storage.schema import CustomField, ImportRun, Shop
from loyalbell.storage.webhook_events import announce

SAMPLE_ROWS = 200
SHOWN_SAMPLES = 3


def folder(application: Application) -> Path:
    path = application.data / "imports"
    path.mkdir(exist_ok=True)
    return path


def file_of(application: Application, run: ImportRun) -> Path:
    return folder(application) / f"{run.id}.table"


def refused_file(application: Application, run_id: int) -> Path:
    return folder(application) / f"{run_id}-refused.csv"


def begin_import(application: Application, kind: str, filename: str, content: BinaryIO, by: str) -> ImportRun:
    """Keeps the file and guesses its columns. Raises ``FileProblem`` and keeps nothing."""
    if kind not in KINDS:
        raise FileProblem(f"“{kind}” cannot be imported; choose one of {', '.join(KINDS)}.")
    scratch = folder(application) / f"new-{id(content)}.table"
    try:
        with scratch.open("wb") as file:
            shutil.copyfileobj(content, file)
        as_table(scratch, kind, application.the_shop().zone)
        guess = guess_for(application, kind, scratch)
        shape = shape_of(scratch)
        with application.database.transaction() as session:
            run = ImportRun(
                kind=kind,
                filename=Path(filename).name or "file.csv",
                mapping=_remembered(session, kind, shape.headings) or guess.as_json(shape.headings),
                shape=shape_key(kind, shape.headings),
                state="new",
                started_at=application.clock.now(),
                by=by,
                created=0,
                changed=0,
                unchanged=0,
                refused=0,
                examples=[],
            )
            session.add(run)
            session.flush()
            scratch.rename(file_of(application, run))
        return run
    finally:
        scratch.unlink(missing_ok=True)


def guess_for(application: Application, kind: str, path: Path) -> ColumnMap:
    shop = application.the_shop()
    shape = shape_of(path)
    with path.open("rb") as file:
        samples = [cells for _, cells in islice(read_rows(file, shape), SAMPLE_ROWS)]
    if not samples:
        raise FileProblem("The file has a heading but no rows below it.")
    with application.database.reading() as session:
        own = own_targets(session) if kind == "customers" else ()
    return guess_map(kind, shape.headings, samples, shop.zone, shop.country, own)


def _remembered(session: Session, kind: str, headings: tuple[str, ...]) -> dict[str, object] | None:
    """How the newest file with the same columns was read, where one was brought in."""
    found = session.scalar(
        select(ImportRun)
        .where(ImportRun.shape == shape_key(kind, headings), ImportRun.state.in_(("done", "undone")))
        .order_by(ImportRun.id.desc())
        .limit(1)
    )
    if found is None:
        return None
    fields = {
        f"new:{field.kind}:{field.name}": f"field:{field.id}"
        for field in session.scalars(select(CustomField))
    }
    columns = {}
    for target, heading in found.mapping["columns"].items():
        columns[
            fields.get(
                target,
                target.removeprefix("new:") if target.startswith(("new:yearly:", "new:id:")) else target,
            )
        ] = heading
    return {**found.mapping, "columns": columns, "remembered": found.filename}


def targets_of(application: Application, kind: str) -> tuple[Target, ...]:
    """What a column of such a file may mean in this shop."""
    with application.database.reading() as session:
        return (*TARGETS[kind], *(own_targets(session) if kind == "customers" else ()))


def apply_map(application: Application, run_id: int, given: Mapping[str, object]) -> None:
    """Reads the file by a map: ``columns`` (target to heading), and ``day_first`` and ``zone`` if wished.

    Raises ``FileProblem`` where the map names what is not there.
    """
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        headings = shape_of(file_of(application, run)).headings
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
        run.mapping = {
            "columns": columns,
            "day_first": bool(given.get("day_first", run.mapping["day_first"])),
            "zone": _zone(str(given.get("zone", run.mapping["zone"]))),
        }


def _zone(name: str) -> str:
    if name not in available_timezones():
        raise FileProblem(f"“{name}” is not a time zone such as America/New_York.")
    return name


def samples_of(path: Path) -> list[list[str]]:
    """The first few cells of each column that are not blank, a list a column."""
    shape = shape_of(path)
    found: list[list[str]] = [[] for _ in shape.headings]
    with path.open("rb") as file:
        for _, cells in islice(read_rows(file, shape), SAMPLE_ROWS):
            for column, cell in zip(found, cells, strict=False):
                if cell.strip() and len(column) < SHOWN_SAMPLES and cell.strip()[:60] not in column:
                    column.append(cell.strip()[:60])
    return found


def set_map(
    application: Application, run_id: int, columns: Mapping[str, str], day_first: bool, zone: str
) -> str | None:
    """Keeps which heading means which target. Returns what is still lacking, or ``None``."""
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        named = {
            f"{target}:{heading}" if target in NEW else target: heading for target, heading in columns.items()
        }
        run.mapping = {"columns": named, "day_first": day_first, "zone": _zone(zone)}
        run.state = "new"
        headings = shape_of(file_of(application, run)).headings
        return map_problem(run.kind, column_map(run, headings).columns)


def column_map(run: ImportRun, headings: tuple[str, ...]) -> ColumnMap:
    columns = {
        target: headings.index(name) for target, name in run.mapping["columns"].items() if name in headings
    }
    return ColumnMap(columns, run.mapping["zone"], run.mapping["day_first"])


def job_key(run_id: int) -> str:
    return f"import-{run_id}"


def start(application: Application, run_id: int, write: bool) -> bool:
    """Begins a try-out or the import itself in the background; false if this one is at work already."""
    job = application.jobs.find(job_key(run_id))
    if job is not None and not job.done:
        return False
    _mark(application, run_id, write)
    return application.jobs.start(
        job_key(run_id), lambda report: carry_out(application, run_id, write, report)
    )


def _mark(application: Application, run_id: int, write: bool) -> bool:
    """Says on file what is under way; false where the import was done before."""
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        if run.state in ("done", "undone"):
            return False
        run.state, run.problem = ("running" if write else "trying"), None
        return True


def carry_out(application: Application, run_id: int, write: bool, report: Report) -> None:
    """Tries a file out (``write`` false) or brings it in, all of it or nothing. Files are written in turn."""
    if not _mark(application, run_id, write):
        return
    with application.database.reading() as session:
        run = session.get_one(ImportRun, run_id)
    try:
        if write:
            with under_way.writing(application, run_id):
                _bring_in(application, run, report)
        else:
            _try_out(application, run, report)
    except FileProblem as problem:
        _fail(application, run_id, str(problem))
    except Exception:
        _fail(application, run_id, under_way.FAILED)
        raise


def _fail(application: Application, run_id: int, problem: str) -> None:
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        # one whose writing had to be taken back says so already
        if run.state != "failed":
            run.state, run.problem = "failed", problem


def _try_out(application: Application, run: ImportRun, report: Report) -> None:
    with application.database.reading() as session:
        outcome = _read(application, session, run, False, report, never)
    with application.database.transaction() as session:
        _record(session.get_one(ImportRun, run.id), outcome, "tried")


def _bring_in(application: Application, run: ImportRun, report: Report) -> None:
    with application.database.transaction() as session:
        breathe = LongWrite(application.database, session).breathe
        outcome = _read(application, session, run, True, report, breathe)
        stored = session.get_one(ImportRun, run.id)
        _record(stored, outcome, "done")
        stored.ended_at = application.clock.now()
        application.note(
            session, run.by or "", f"imported {run.kind}", file=run.filename, **outcome.counts.as_json()
        )
        facts = {"import": run.id, "kind": run.kind, "file": run.filename} | outcome.counts.as_json()
        announce(session, "import.finished", application.clock.now(), **facts)


def _record(run: ImportRun, outcome: Outcome, state: str) -> None:
    counts = outcome.counts
    run.created, run.changed = counts.created, counts.changed
    run.unchanged, run.refused = counts.unchanged, counts.refused
    run.examples, run.state = sorted(outcome.examples, key=lambda refused: refused[0]), state


def _read(
    application: Application, session: Session, run: ImportRun, write: bool, report: Report, breathe: Breathe
) -> Outcome:
    path = file_of(application, run)
    shape = shape_of(path)
    columns = column_map(run, shape.headings)
    problem = map_problem(run.kind, columns.columns)
    if problem:
        raise FileProblem(problem)
    with RefusedRows(refused_file(application, run.id), shape.headings, Outcome()) as refused, uncollected():
        return _importer(application, session, run, columns, write)(path, shape, refused, report, breathe)


@contextmanager
def uncollected() -> Iterator[None]:
    """A file's millions of cells hold no cycles; looking for some among them doubles the time."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


Importer = Callable[[Path, TableShape, RefusedRows, Report, Breathe], Outcome]


def _importer(
    application: Application, session: Session, run: ImportRun, columns: ColumnMap, write: bool
) -> Importer:
    shop = session.get_one(Shop, 1)
    now = application.clock.now()

    def from_rows(
        path: Path, shape: TableShape, refused: RefusedRows, report: Report, breathe: Breathe
    ) -> Outcome:
        with path.open("rb") as file:
            rows, progress = read_rows(file, shape), _progress(file, path, report, breathe)
            if run.kind == "order-lines":
                lines = LinesIn(session, columns, shop.currency, run.id, write)
                return lines.run(rows, refused, progress, breathe)
            work: CustomersIn | RecordsIn
            if run.kind == "customers":
                work = CustomersIn(session, columns, shop.country, now, run.id, write)
            else:
                kind = RECORDS[run.kind]
                work = RecordsIn(session, kind, columns, shop.country, shop.currency, now, run.id, write)
            return work.run(rows, refused, progress)

    def orders(
        path: Path, shape: TableShape, refused: RefusedRows, report: Report, breathe: Breathe
    ) -> Outcome:
        with path.open("rb") as file:
            work = OrdersIn(session, columns, shop.country, shop.currency, run.id, write)

            def rows() -> Iterator[Row]:
                file.seek(0)
                return read_rows(file, shape)

            return work.run(rows, refused, _progress(file, path, report, breathe), breathe)

    return orders if run.kind == "orders" else from_rows


class CannotUndo(Exception):
    """What stands in the way of undoing an import, in words."""


def hindrances(application: Application, run_id: int) -> list[str]:
    """What stands in the way of undoing; empty where it can be undone."""
    with application.database.reading() as session:
        return what_depends(session, session.get_one(ImportRun, run_id))


def undo_import(application: Application, run_id: int, by: str) -> None:
    """Takes everything an import did back, or nothing. Raises ``CannotUndo``."""
    with application.import_turn, application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        if run.state != "done":
            raise CannotUndo("This file is not in the book, so there is nothing to undo.")
        problems = what_depends(session, run)
        if problems:
            raise CannotUndo("It cannot be undone: " + "; ".join(problems) + ".")
        undo(session, run, application.clock.now(), by)
        application.note(session, by, f"undid an import of {run.kind}", file=run.filename)


def _progress(file: BinaryIO, path: Path, report: Report, breathe: Breathe) -> Callable[[int], bool]:
    size = max(path.stat().st_size, 1)

    def say(row: int) -> bool:
        report(min(file.tell() / size, 1.0), f"{row:,} rows read")
        return breathe()

    return say


def mend_after_stop(application: Application) -> None:
    """Imports that the program's end cut off: what they had written is taken back."""
    if under_way.is_under_way(application):
        return
    with application.database.transaction() as session:
        for run in session.query(ImportRun).filter(ImportRun.state.in_(("trying", "running"))):
            run.state, run.problem = "failed", under_way.STOPPED


def forget(application: Application, run_id: int) -> None:
    """Takes an import that wrote nothing out of the list, with its files."""
    with application.database.transaction() as session:
        run = session.get_one(ImportRun, run_id)
        file_of(application, run).unlink(missing_ok=True)
        refused_file(application, run_id).unlink(missing_ok=True)
        session.execute(delete(ImportRun).where(ImportRun.id == run_id))
