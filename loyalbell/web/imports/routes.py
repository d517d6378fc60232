"""Bringing files in: choose, match the columns, look, bring in."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.datastructures import FormData, UploadFile

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import files, mapping
from loyalbell.services.imports import queries as import_queries
from loyalbell.storage.files.column_mapping import map_problem
from loyalbell.storage.files.file_targets import KINDS, NEW
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.schema import ImportRun
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of

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


def _run(context: RequestContext, run_id: int) -> ImportRun:
    run = context.application.find(ImportRun, run_id)
    if run is None:
        raise NotFound("No such import is on file.")
    return run


@router.get("/imports")
def list_page(context: RequestContext = SignedIn, problem: str | None = None, status: int = 200) -> Response:
    runs = import_queries.newest_runs(context.application)
    return context.page(
        "imports/imports.html", "imports", status, runs=runs, kinds=KINDS, words=KIND_WORDS, problem=problem
    )


@router.post("/imports")
def choose(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    file = form.get("file")
    if not isinstance(file, UploadFile) or not file.filename:
        return list_page(context, "Choose a file first.", 422)
    try:
        run = import_commands.begin_import(
            context.application, text_of(form, "kind"), file.filename, file.file, context.by
        )
    except FileProblem as problem:
        return list_page(context, f"{file.filename}: {problem}", 422)
    import_commands.start(context.application, run.id, write=False)
    return context.go(f"/imports/{run.id}")


@router.get("/imports/{run_id}")
def run_page(run_id: int, context: RequestContext = SignedIn) -> Response:
    return context.page("imports/import.html", "imports", **_values(context, run_id))


@router.get("/imports/{run_id}/progress")
def progress(run_id: int, context: RequestContext = SignedIn) -> Response:
    values = _values(context, run_id)
    return HTMLResponse(context.piece("imports/state.html", area="imports", **values))


def _values(context: RequestContext, run_id: int) -> dict[str, Any]:
    run = _run(context, run_id)
    path = files.file_of(context.application, run)
    shape = files.shape(context.application, run)
    job = context.application.jobs.find(import_commands.job_key(run_id))
    columns = mapping.column_map(run, shape.headings).columns
    return {
        "run": run,
        "shape": shape,
        "samples": files.samples_of(path, shape),
        "targets": mapping.targets_of(context.application, run.kind),
        "new": NEW if run.kind == "customers" else {},
        "hindrances": import_commands.hindrances(context.application, run.id) if run.state == "done" else [],
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
def set_columns(run_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    run = _run(context, run_id)
    if run.state in ("done", "undone"):
        return context.go(f"/imports/{run_id}")
    headings = files.shape(context.application, run).headings
    columns: dict[str, str] = {}
    for at, heading in enumerate(headings):
        target = text_of(form, f"column-{at}")
        if target:
            columns.setdefault(f"{target}:{heading}" if target in NEW else target, heading)
    day_first = text_of(form, "day_first") == "1"
    zone = text_of(form, "zone") or run.mapping["zone"]
    try:
        lacking = mapping.set_map(
            context.application, run_id, columns, {"day_first": day_first, "zone": zone}
        )
    except FileProblem as problem:
        return context.page(
            "imports/import.html", "imports", 422, **_values(context, run_id) | {"problem": str(problem)}
        )
    if lacking is None:
        import_commands.start(context.application, run_id, write=False)
    return context.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/bring-in")
def bring_in(run_id: int, context: RequestContext = SignedIn) -> Response:
    if _run(context, run_id).state == "tried":
        import_commands.start(context.application, run_id, write=True)
    return context.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/undo")
def undo(run_id: int, context: RequestContext = SignedIn) -> Response:
    try:
        import_commands.undo_import(context.application, run_id, context.by)
    except import_commands.CannotUndo as problem:
        return context.page(
            "imports/import.html", "imports", 422, **_values(context, run_id) | {"problem": str(problem)}
        )
    return context.go(f"/imports/{run_id}")


@router.get("/imports/{run_id}/refused.csv")
def refused(run_id: int, context: RequestContext = SignedIn) -> Response:
    path = files.refused_file(context.application, _run(context, run_id).id)
    if not path.exists():
        raise NotFound("This import refused no rows.")
    return FileResponse(path, media_type="text/csv", filename=f"refused-rows-{run_id}.csv")
