"""Bringing a file in: keep it, guess its columns, try it out, bring it in whole or not at all."""

import shutil
from collections.abc import Callable, Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any, BinaryIO

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from loyalbell.core.collecting import without_collecting
from loyalbell.services.application import Application
from loyalbell.services.background_work import Report
from loyalbell.services.imports import files, under_way
from loyalbell.services.imports.mapping import column_map, guess_for
from loyalbell.storage.files.columns.column_guess import recognise
from loyalbell.storage.files.columns.column_mapping import ColumnMap, map_problem, shape_key
from loyalbell.storage.files.columns.file_targets import KINDS
from loyalbell.storage.files.customers.customer_import import CustomersIn
from loyalbell.storage.files.import_outcome import Outcome, RefusedRows
from loyalbell.storage.files.import_undo import undo, what_depends
from loyalbell.storage.files.orders.order_import import OrdersIn
from loyalbell.storage.files.orders.order_line_import import LinesIn
from loyalbell.storage.files.record_import import RecordsIn
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.table_reader import FOUND_OUT, Reading, Row, TableShape, read_rows
from loyalbell.storage.long_write import Breathe, LongWrite, never
from loyalbell.storage.records.kinds import RECORDS
from loyalbell.storage.schema import ImportRun, Shop
from loyalbell.storage.webhook_events import announce

UNKNOWN_KIND = (
    "We could not tell what this file holds. Choose what is in it, and check that its headings"
    " are in one row above the others."
)


def begin_import(
    application: Application, kind: str | None, filename: str, content: BinaryIO, by: str
) -> ImportRun:
    """Keeps the file and guesses its columns, and what it holds where ``kind`` is not said. Raises
    ``FileProblem`` and keeps nothing.
    """
    if kind is not None and kind not in KINDS:
        raise FileProblem(f"“{kind}” cannot be imported; choose one of {', '.join(KINDS)}.")
    source = files.folder(application) / f"new-{id(content)}.source"
    table = source.with_suffix(".table")
    try:
        with source.open("wb") as file:
            shutil.copyfileobj(content, file)
        found = files.look_at(application, source, table, kind, FOUND_OUT)
        kind = kind or found.kind or _recognise(application, found)
        if kind is None:
            raise FileProblem(UNKNOWN_KIND)
        mapping = guess_for(application, kind, found)
        with application.database.transaction() as session:
            run = _new_run(application, kind, filename, mapping, found.shape.headings, by)
            session.add(run)
            session.flush()
            if table.exists():
                table.rename(files.file_of(application, run))
                source.rename(files.source_of(application, run))
            else:
                source.rename(files.file_of(application, run))
        return run
    finally:
        source.unlink(missing_ok=True)
        table.unlink(missing_ok=True)


def _new_run(
    application: Application,
    kind: str,
    filename: str,
    mapping: dict[str, Any],
    headings: tuple[str, ...],
    by: str,
) -> ImportRun:
    return ImportRun(
        kind=kind,
        filename=Path(filename).name or "file.csv",
        mapping=mapping,
        shape=shape_key(kind, headings),
        state="new",
        started_at=application.clock.now(),
        by=by,
        created=0,
        changed=0,
        unchanged=0,
        refused=0,
        left_out=0,
        examples=[],
        problems=[],
        found={},
    )


def _recognise(application: Application, found: files.Table) -> str | None:
    shop = application.the_shop()
    return recognise(found.shape.headings, found.samples, shop.zone, shop.country)


def read_otherwise(application: Application, run_id: int, kind: str, reading: Reading) -> None:
    """Reads a run's file as another kind, from another sheet, heading row or encoding, and guesses its
    columns anew. Raises ``FileProblem`` and changes nothing.
    """
    if kind not in KINDS:
        raise FileProblem(f"“{kind}” cannot be imported; choose one of {', '.join(KINDS)}.")
    with application.database.reading() as session:
        run = session.get_one(ImportRun, run_id)
    source, table = files.source_of(application, run), files.file_of(application, run)
    scratch = table.with_suffix(".again")
    try:
        found = files.look_at(application, source if source.exists() else table, scratch, kind, reading)
        mapping = guess_for(application, kind, found) | {"reading": asdict(reading)}
        with application.database.transaction() as session:
            stored = session.get_one(ImportRun, run_id)
            stored.kind, stored.mapping, stored.state = kind, mapping, "new"
            stored.shape = shape_key(kind, found.shape.headings)
            if scratch.exists():
                scratch.replace(table)
    finally:
        scratch.unlink(missing_ok=True)


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
    _try_again_others(application, run)


def _try_again_others(application: Application, run: ImportRun) -> None:
    """Files that wait find people and orders now that were not there when they were tried."""
    if run.kind not in ("customers", "orders"):
        return
    with application.database.reading() as session:
        waiting = session.scalars(select(ImportRun.id).where(ImportRun.state == "tried")).all()
    for run_id in waiting:
        start(application, run_id, write=False)


def _record(run: ImportRun, outcome: Outcome, state: str) -> None:
    counts = outcome.counts
    run.created, run.changed = counts.created, counts.changed
    run.unchanged, run.refused = counts.unchanged, counts.refused
    run.problems, run.found, run.left_out = outcome.groups.as_json(), outcome.found, outcome.left_out
    run.state = state


def _read(
    application: Application, session: Session, run: ImportRun, write: bool, report: Report, breathe: Breathe
) -> Outcome:
    path = files.file_of(application, run)
    shape = files.shape(application, run)
    columns = column_map(run, shape.headings)
    problem = map_problem(run.kind, columns.columns)
    if problem:
        raise FileProblem(problem)
    with (
        RefusedRows(files.refused_file(application, run.id), shape.headings, Outcome()) as refused,
        without_collecting(),
    ):
        return _importer(application, session, run, columns, write)(path, shape, refused, report, breathe)


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
                work = CustomersIn(session, columns, shop.country, shop.currency, now, run.id, write)
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
        for kept in (files.file_of(application, run), files.source_of(application, run)):
            kept.unlink(missing_ok=True)
        files.refused_file(application, run_id).unlink(missing_ok=True)
        session.execute(delete(ImportRun).where(ImportRun.id == run_id))
