"""Bringing a file in: keep it, guess its columns, try it out, bring it in whole or not at all."""

import gc
import shutil
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import BinaryIO

from sqlalchemy.orm import Session

from loyalbell.desk.desk import Desk
from loyalbell.desk.jobs import Report
from loyalbell.store.files.customers_in import CustomersIn
from loyalbell.store.files.mapping import KINDS, ColumnMap, guess_map, map_problem
from loyalbell.store.files.orders_in import OrdersIn
from loyalbell.store.files.outcome import Outcome, RefusedRows
from loyalbell.store.files.table_file import FileProblem, Row, TableShape, read_rows, shape_of
from loyalbell.store.journal import mark_whole
from loyalbell.store.tables import ImportRun, Shop

SAMPLE_ROWS = 200
SHOWN_SAMPLES = 3
PARTS = {"customers": ("people", "consents"), "orders": ("orders", "lines", "catalogue")}
STOPPED = "The program stopped while this file was being read. Nothing was written; start it again."


def folder(desk: Desk) -> Path:
    path = desk.data / "imports"
    path.mkdir(exist_ok=True)
    return path


def file_of(desk: Desk, run: ImportRun) -> Path:
    return folder(desk) / f"{run.id}.table"


def refused_file(desk: Desk, run_id: int) -> Path:
    return folder(desk) / f"{run_id}-refused.csv"


def begin_import(desk: Desk, kind: str, filename: str, content: BinaryIO, by: str) -> ImportRun:
    """Keeps the file and guesses its columns. Raises ``FileProblem`` and keeps nothing."""
    if kind not in KINDS:
        raise FileProblem(f"“{kind}” cannot be imported; choose one of {', '.join(KINDS)}.")
    scratch = folder(desk) / f"new-{id(content)}.table"
    try:
        with scratch.open("wb") as file:
            shutil.copyfileobj(content, file)
        guess = guess_for(desk, kind, scratch)
        shape = shape_of(scratch)
        with desk.book.writing() as session:
            run = ImportRun(
                kind=kind,
                filename=Path(filename).name or "file.csv",
                mapping=guess.as_json(shape.headings),
                state="new",
                started_at=desk.clock.now(),
                by=by,
                created=0,
                changed=0,
                unchanged=0,
                refused=0,
                examples=[],
            )
            session.add(run)
            session.flush()
            scratch.rename(file_of(desk, run))
        return run
    finally:
        scratch.unlink(missing_ok=True)


def guess_for(desk: Desk, kind: str, path: Path) -> ColumnMap:
    shop = desk.the_shop()
    shape = shape_of(path)
    with path.open("rb") as file:
        samples = [cells for _, cells in islice(read_rows(file, shape), SAMPLE_ROWS)]
    if not samples:
        raise FileProblem("The file has a heading but no rows below it.")
    return guess_map(kind, shape.headings, samples, shop.zone, shop.country)


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


def set_map(desk: Desk, run_id: int, columns: Mapping[str, str], day_first: bool, zone: str) -> str | None:
    """Keeps which heading means which target. Returns what is still lacking, or ``None``."""
    with desk.book.writing() as session:
        run = session.get_one(ImportRun, run_id)
        run.mapping = {"columns": dict(columns), "day_first": day_first, "zone": zone}
        run.state = "new"
        headings = shape_of(file_of(desk, run)).headings
        return map_problem(run.kind, column_map(run, headings).columns)


def column_map(run: ImportRun, headings: tuple[str, ...]) -> ColumnMap:
    columns = {
        target: headings.index(name) for target, name in run.mapping["columns"].items() if name in headings
    }
    return ColumnMap(columns, run.mapping["zone"], run.mapping["day_first"])


def job_key(run_id: int) -> str:
    return f"import-{run_id}"


def start(desk: Desk, run_id: int, write: bool) -> bool:
    """Begins a try-out or the import itself in the background; false if this one is at work already."""
    job = desk.jobs.find(job_key(run_id))
    if job is not None and not job.done:
        return False
    _mark(desk, run_id, write)
    return desk.jobs.start(job_key(run_id), lambda report: carry_out(desk, run_id, write, report))


def _mark(desk: Desk, run_id: int, write: bool) -> bool:
    """Says on file what is under way; false where the import was done before."""
    with desk.book.writing() as session:
        run = session.get_one(ImportRun, run_id)
        if run.state == "done":
            return False
        run.state, run.problem = ("running" if write else "trying"), None
        return True


def carry_out(desk: Desk, run_id: int, write: bool, report: Report) -> None:
    """Tries a file out (``write`` false) or brings it in, all of it or nothing. Files are written in turn."""
    if not _mark(desk, run_id, write):
        return
    with desk.book.reading() as session:
        run = session.get_one(ImportRun, run_id)
    try:
        if write:
            with desk.import_turn:
                _bring_in(desk, run, report)
        else:
            _try_out(desk, run, report)
    except FileProblem as problem:
        _fail(desk, run_id, str(problem))
    except Exception:
        _fail(desk, run_id, "Something unforeseen went wrong while reading. Nothing was written.")
        raise


def _fail(desk: Desk, run_id: int, problem: str) -> None:
    with desk.book.writing() as session:
        run = session.get_one(ImportRun, run_id)
        run.state, run.problem = "failed", problem


def _try_out(desk: Desk, run: ImportRun, report: Report) -> None:
    with desk.book.reading() as session:
        outcome = _read(desk, session, run, False, report)
    with desk.book.writing() as session:
        _record(session.get_one(ImportRun, run.id), outcome, "tried")


def _bring_in(desk: Desk, run: ImportRun, report: Report) -> None:
    with desk.book.writing() as session:
        outcome = _read(desk, session, run, True, report)
        stored = session.get_one(ImportRun, run.id)
        _record(stored, outcome, "done")
        stored.ended_at = desk.clock.now()
        mark_whole(session, *PARTS[run.kind])
        desk.note(
            session, run.by or "", f"imported {run.kind}", file=run.filename, **outcome.counts.as_json()
        )


def _record(run: ImportRun, outcome: Outcome, state: str) -> None:
    counts = outcome.counts
    run.created, run.changed = counts.created, counts.changed
    run.unchanged, run.refused = counts.unchanged, counts.refused
    run.examples, run.state = sorted(outcome.examples, key=lambda refused: refused[0]), state


def _read(desk: Desk, session: Session, run: ImportRun, write: bool, report: Report) -> Outcome:
    path = file_of(desk, run)
    shape = shape_of(path)
    columns = column_map(run, shape.headings)
    problem = map_problem(run.kind, columns.columns)
    if problem:
        raise FileProblem(problem)
    with RefusedRows(refused_file(desk, run.id), shape.headings, Outcome()) as refused, uncollected():
        return _importer(desk, session, run, columns, write)(path, shape, refused, report)


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


Importer = Callable[[Path, TableShape, RefusedRows, Report], Outcome]


def _importer(desk: Desk, session: Session, run: ImportRun, columns: ColumnMap, write: bool) -> Importer:
    shop = session.get_one(Shop, 1)

    def customers(path: Path, shape: TableShape, refused: RefusedRows, report: Report) -> Outcome:
        with path.open("rb") as file:
            work = CustomersIn(session, columns, shop.country, desk.clock.now(), run.id, write)
            return work.run(read_rows(file, shape), refused, _progress(file, path, report))

    def orders(path: Path, shape: TableShape, refused: RefusedRows, report: Report) -> Outcome:
        with path.open("rb") as file:
            work = OrdersIn(session, columns, shop.country, shop.currency, run.id, write)

            def rows() -> Iterator[Row]:
                file.seek(0)
                return read_rows(file, shape)

            return work.run(rows, refused, _progress(file, path, report))

    return customers if run.kind == "customers" else orders


def _progress(file: BinaryIO, path: Path, report: Report) -> Callable[[int], None]:
    size = max(path.stat().st_size, 1)

    def say(row: int) -> None:
        report(min(file.tell() / size, 1.0), f"{row:,} rows read")

    return say


def mend_after_stop(desk: Desk) -> None:
    """Marks imports that the program's end cut off; their transaction was never kept."""
    with desk.book.writing() as session:
        for run in session.query(ImportRun).filter(ImportRun.state.in_(("trying", "running"))):
            run.state, run.problem = "failed", STOPPED
