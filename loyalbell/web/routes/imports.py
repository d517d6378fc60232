"""Bringing files in: choose, match the columns, look, bring in."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from sqlalchemy import select
from starlette.datastructures import FormData, UploadFile

from loyalbell.desk import importing
from loyalbell.store.files.mapping import KINDS, NEW, map_problem
from loyalbell.store.files.table_file import FileProblem, shape_of
from loyalbell.store.tables import ImportRun
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, text_of

router = APIRouter()
AT_WORK = ("trying", "running")
SHOWN_REFUSALS = 12
KIND_WORDS = {
    "customers": "also vCards",
    "orders": "a row per order, or a row per line",
    "order-lines": "lines of orders that are here already",
    "visits": "coming in without an appointment",
    "appointments": "also calendars",
    "memberships": "plans, terms, renewals",
    "events": "what people did on your site or app",
    "answers": "reviews and surveys",
    "items": "the catalogue, with prices and margins",
    "consents": "who agreed to or refused a channel, when and how",
    "suppressions": "addresses not to write to",
}


def _shown_target(target: str) -> str:
    """``new:text`` for ``new:text:Shoe size``: the choice that stands in the list."""
    return next((new for new in NEW if target.startswith(f"{new}:")), target)


def _run(visit: Visit, run_id: int) -> ImportRun:
    with visit.desk.book.reading() as session:
        run = session.get(ImportRun, run_id)
    if run is None:
        raise NotFound("No such import is on file.")
    return run


@router.get("/imports")
def list_page(visit: Visit = SignedIn, problem: str | None = None, status: int = 200) -> Response:
    with visit.desk.book.reading() as session:
        runs = list(session.scalars(select(ImportRun).order_by(ImportRun.id.desc()).limit(50)))
    return visit.page(
        "imports/imports.html", "imports", status, runs=runs, kinds=KINDS, words=KIND_WORDS, problem=problem
    )


@router.post("/imports")
def choose(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    file = form.get("file")
    if not isinstance(file, UploadFile) or not file.filename:
        return list_page(visit, "Choose a file first.", 422)
    try:
        run = importing.begin_import(visit.desk, text_of(form, "kind"), file.filename, file.file, visit.by)
    except FileProblem as problem:
        return list_page(visit, f"{file.filename}: {problem}", 422)
    importing.start(visit.desk, run.id, write=False)
    return visit.go(f"/imports/{run.id}")


@router.get("/imports/{run_id}")
def run_page(run_id: int, visit: Visit = SignedIn) -> Response:
    return visit.page("imports/import.html", "imports", **_values(visit, run_id))


@router.get("/imports/{run_id}/progress")
def progress(run_id: int, visit: Visit = SignedIn) -> Response:
    values = _values(visit, run_id)
    return HTMLResponse(visit.piece("imports/state.html", area="imports", **values))


def _values(visit: Visit, run_id: int) -> dict[str, Any]:
    run = _run(visit, run_id)
    path = importing.file_of(visit.desk, run)
    shape = shape_of(path)
    job = visit.desk.jobs.find(importing.job_key(run_id))
    columns = importing.column_map(run, shape.headings).columns
    return {
        "run": run,
        "shape": shape,
        "samples": importing.samples_of(path),
        "targets": importing.targets_of(visit.desk, run.kind),
        "new": NEW if run.kind == "customers" else {},
        "hindrances": importing.hindrances(visit.desk, run.id) if run.state == "done" else [],
        "chosen": {at: _shown_target(target) for target, at in columns.items()},
        "left_out": [
            heading or "(no heading)"
            for at, heading in enumerate(shape.headings)
            if at not in columns.values()
        ],
        "lacking": map_problem(run.kind, columns),
        "job": job,
        "at_work": run.state in AT_WORK,
        "shown_refusals": SHOWN_REFUSALS,
    }


@router.post("/imports/{run_id}/columns")
def set_columns(run_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    run = _run(visit, run_id)
    if run.state in ("done", "undone"):
        return visit.go(f"/imports/{run_id}")
    headings = shape_of(importing.file_of(visit.desk, run)).headings
    columns: dict[str, str] = {}
    for at, heading in enumerate(headings):
        target = text_of(form, f"column-{at}")
        if target:
            columns.setdefault(f"{target}:{heading}" if target in NEW else target, heading)
    day_first = text_of(form, "day_first") == "1"
    zone = text_of(form, "zone") or run.mapping["zone"]
    try:
        lacking = importing.set_map(visit.desk, run_id, columns, day_first, zone)
    except FileProblem as problem:
        return visit.page(
            "imports/import.html", "imports", 422, **_values(visit, run_id) | {"problem": str(problem)}
        )
    if lacking is None:
        importing.start(visit.desk, run_id, write=False)
    return visit.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/bring-in")
def bring_in(run_id: int, visit: Visit = SignedIn) -> Response:
    if _run(visit, run_id).state == "tried":
        importing.start(visit.desk, run_id, write=True)
    return visit.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/undo")
def undo(run_id: int, visit: Visit = SignedIn) -> Response:
    try:
        importing.undo_import(visit.desk, run_id, visit.by)
    except importing.CannotUndo as problem:
        return visit.page(
            "imports/import.html", "imports", 422, **_values(visit, run_id) | {"problem": str(problem)}
        )
    return visit.go(f"/imports/{run_id}")


@router.get("/imports/{run_id}/refused.csv")
def refused(run_id: int, visit: Visit = SignedIn) -> Response:
    path = importing.refused_file(visit.desk, _run(visit, run_id).id)
    if not path.exists():
        raise NotFound("This import refused no rows.")
    return FileResponse(path, media_type="text/csv", filename=f"refused-rows-{run_id}.csv")
