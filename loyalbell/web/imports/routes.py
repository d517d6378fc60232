"""Bringing files in: choose, match the columns, look, bring in."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.datastructures import FormData, UploadFile

from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import files, mapping, mends, questions, samples, watched_folder
from loyalbell.services.imports import queries as import_queries
from loyalbell.services.imports.preview import preview
from loyalbell.services.imports.watched_folder import WatchedSettings
from loyalbell.services.settings.channels import loaded
from loyalbell.storage.files.columns.column_mapping import map_problem
from loyalbell.storage.files.columns.file_targets import KINDS, NEW
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.table_reader import Reading
from loyalbell.storage.files.tables.text_encoding import ENCODINGS
from loyalbell.storage.schema import ImportRun
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of

router = APIRouter()
AT_WORK = ("trying", "running")
ENDED = ("done", "undone")
SHOWN_ROWS = 8
AMOUNTS = ("money", "quantity")
KEY_TARGETS = frozenset(("id", "order_id", "customer_id", "external_id"))
STATE_WORDS = {
    "new": "chosen",
    "trying": "being tried",
    "tried": "tried, not imported",
    "running": "being imported",
    "done": "brought in",
    "failed": "not imported",
    "undone": "undone",
}
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
def list_page(context: RequestContext = SignedIn) -> Response:
    return _list(context)


def _list(
    context: RequestContext, problem: str | None = None, status: int = 200, watched_problem: str | None = None
) -> Response:
    runs = import_queries.newest_runs(context.application)
    return context.page(
        "imports/imports.html",
        "imports",
        status,
        runs=runs,
        waiting=import_queries.in_order(runs),
        watched=loaded(context.application, WatchedSettings).folder,
        watched_problem=watched_problem,
        kinds=KINDS,
        words=KIND_WORDS,
        states=STATE_WORDS,
        problem=problem,
    )


@router.post("/imports")
def choose(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """One file or several. Several are brought in one after the other, customers before their orders."""
    chosen = [file for file in form.getlist("file") if isinstance(file, UploadFile) and file.filename]
    if not chosen:
        return _list(context, "Choose a file first.", 422)
    begun, problems = [], []
    for file in chosen:
        try:
            begun.append(_begin(context, text_of(form, "kind") or None, file))
        except FileProblem as problem:
            problems.append(f"{file.filename}: {problem}")
    if problems and not begun:
        return _list(context, " ".join(problems), 422)
    if len(chosen) == 1:
        return context.go(f"/imports/{begun[0]}")
    if not problems and text_of(form, "back") == "/guide":
        return context.go("/guide#step-files")
    return _list(context, " ".join(problems)) if problems else context.go("/imports")


def _begin(context: RequestContext, kind: str | None, file: UploadFile) -> int:
    run = import_commands.begin_import(
        context.application, kind, file.filename or "file.csv", file.file, context.by
    )
    import_commands.start(context.application, run.id, write=False)
    return run.id


@router.post("/imports/watched")
def watch(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The folder whose files come in by themselves."""
    try:
        watched_folder.settle(context.application, text_of(form, "folder"), context.by)
    except watched_folder.CannotWatch as problem:
        return _list(context, None, 422, str(problem))
    return context.go("/imports")


@router.get("/imports/sample/{kind}.csv")
def sample(kind: str, context: RequestContext = SignedIn) -> Response:
    """A file with all headings and two rows, to fill in."""
    if kind not in KINDS:
        raise NotFound("There is no such kind of file.")
    text = samples.sample_file(kind, context.application.the_shop())
    headers = {"Content-Disposition": f'attachment; filename="sample-{kind}.csv"'}
    return Response("\ufeff" + text, media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/imports/{run_id}")
def run_page(run_id: int, context: RequestContext = SignedIn) -> Response:
    try:
        values = _values(context, run_id)
    except (FileProblem, OSError) as problem:
        # its file could not be read, or has been deleted since
        run = _run(context, run_id)
        return context.page("imports/unread.html", "imports", run=run, problem=run.problem or str(problem))
    return context.page("imports/import.html", "imports", **values)


@router.get("/imports/{run_id}/progress")
def progress(run_id: int, context: RequestContext = SignedIn) -> Response:
    values = _values(context, run_id)
    if not values["at_work"]:
        # what the file holds and what cannot be read stand beside the rail: the whole page is shown anew
        return Response(headers={"HX-Refresh": "true"})
    return HTMLResponse(context.piece("imports/state.html", area="imports", **values))


def _values(context: RequestContext, run_id: int) -> dict[str, Any]:
    run = _run(context, run_id)
    application = context.application
    path = files.file_of(application, run)
    shape = files.shape(application, run)
    columns = mapping.column_map(run, shape.headings).columns
    ended = run.state in ENDED
    targets = mapping.targets_of(application, run.kind)
    return {
        "run": run,
        "shape": shape,
        "samples": files.samples_of(path, shape),
        "targets": targets,
        "labels": {target.name: target.label for target in targets},
        "new": NEW if run.kind == "customers" else {},
        "hindrances": import_commands.hindrances(application, run.id) if run.state == "done" else [],
        "chosen": {at: _shown_target(target) for target, at in columns.items()},
        "left_out": [heading for at, heading in enumerate(shape.headings) if at not in columns.values()],
        "lacking": map_problem(run.kind, columns),
        "job": application.jobs.find(import_commands.job_key(run_id)),
        "at_work": run.state in AT_WORK,
        "ended": ended,
        "kinds": KINDS,
        "encodings": ENCODINGS,
        "start": [] if ended else files.start_of(application, run)[:SHOWN_ROWS],
        "preview": [] if ended else preview(application, run),
        "questions": [] if ended else questions.open_questions(run),
        "consents": questions.brings_consents(run),
        "ways_since": questions.ways_since(run),
        "agreed": questions.suggested(run),
        "key_targets": KEY_TARGETS,
        "has_amounts": any(
            target.reads in ("money", "quantity") for target in targets if target.name in columns
        ),
        "first": None if ended else import_queries.needed_first(application, run),
    }


@router.post("/imports/{run_id}/reading")
def read_otherwise(run_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Another kind, sheet, heading row or encoding."""
    run = _run(context, run_id)
    if run.state in ENDED:
        return context.go(f"/imports/{run_id}")
    row = text_of(form, "heading_row")
    try:
        reading = Reading(
            text_of(form, "encoding") or None,
            int(row) if row.isascii() and row.isdecimal() else None,
            text_of(form, "sheet") or None,
        )
        kind = text_of(form, "kind") or run.kind
        import_commands.read_otherwise(context.application, run_id, kind, reading)
    except FileProblem as problem:
        return _again(context, run_id, problem)
    import_commands.start(context.application, run_id, write=False)
    return context.go(f"/imports/{run_id}")


def _again(context: RequestContext, run_id: int, problem: Exception) -> Response:
    values = _values(context, run_id) | {"problem": str(problem)}
    return context.page("imports/import.html", "imports", 422, **values)


@router.post("/imports/{run_id}/mend")
def mend(run_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Cells of one group are read as something else, or count as empty."""
    run, application = _run(context, run_id), context.application
    if run.state in ENDED:
        return context.go(f"/imports/{run_id}")
    target = text_of(form, "target")
    if text_of(form, "act") == "forget":
        mends.forget_rules(application, run_id)
    elif text_of(form, "act") == "make people":
        mapping.change_map(application, run_id, make_people=True)
    elif target in run.mapping["columns"]:
        if text_of(form, "act") == "empty":
            mends.leave_out_odd(application, run_id, target)
        else:
            mends.say_instead(application, run_id, target, _instead(form))
    import_commands.start(application, run_id, write=False)
    return context.go(f"/imports/{run_id}#problems")


def _instead(form: FormData) -> dict[str, str]:
    """What somebody typed beside the cells of a group; a tick means nothing."""
    found = {}
    for name, value in form.multi_items():
        number = name.removeprefix("value-")
        if name == number or not isinstance(value, str):
            continue
        written = text_of(form, f"instead-{number}")
        if written or text_of(form, f"empty-{number}"):
            found[value] = written
    return found


@router.post("/imports/{run_id}/answer")
def answer(run_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What only a person can say of a file: since when people agreed, which totals are right."""
    run, application = _run(context, run_id), context.application
    if run.state in ENDED:
        return context.go(f"/imports/{run_id}")
    more: dict[str, Any] = {}
    if "since" in form:
        said = {name: text_of(form, name) for name in ("since", "day", "wording")}
        try:
            more["agreed"] = mapping.read_agreed(said, bool(run.mapping["day_first"]))
        except FileProblem as problem:
            return _again(context, run_id, problem)
    if text_of(form, "totals_of") in ("file", "lines"):
        more["totals_of"] = text_of(form, "totals_of")
    mapping.change_map(application, run_id, **more)
    import_commands.start(application, run_id, write=False)
    return context.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/columns")
def set_columns(run_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    run = _run(context, run_id)
    if run.state in ENDED:
        return context.go(f"/imports/{run_id}")
    headings = files.shape(context.application, run).headings
    columns: dict[str, str] = {}
    for at, heading in enumerate(headings):
        target = text_of(form, f"column-{at}")
        if target:
            columns.setdefault(f"{target}:{heading}" if target in NEW else target, heading)
    day_first = text_of(form, "day_first") == "1"
    zone = text_of(form, "zone") or run.mapping["zone"]
    mark = text_of(form, "mark") or run.mapping.get("mark")
    try:
        more = {"day_first": day_first, "zone": zone, "mark": mark}
        lacking = mapping.set_map(context.application, run_id, columns, more)
    except FileProblem as problem:
        return _again(context, run_id, problem)
    if lacking is None:
        import_commands.start(context.application, run_id, write=False)
    return context.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/bring-in")
def bring_in(run_id: int, context: RequestContext = SignedIn) -> Response:
    run = _run(context, run_id)
    if run.state == "tried" and not questions.open_questions(run):
        import_commands.start(context.application, run_id, write=True)
    return context.go(f"/imports/{run_id}")


@router.post("/imports/{run_id}/undo")
def undo(run_id: int, context: RequestContext = SignedIn) -> Response:
    try:
        import_commands.undo_import(context.application, run_id, context.by)
    except import_commands.CannotUndo as problem:
        return _again(context, run_id, problem)
    return context.go(f"/imports/{run_id}")


@router.get("/imports/{run_id}/refused.csv")
def refused(run_id: int, context: RequestContext = SignedIn) -> Response:
    path = files.refused_file(context.application, _run(context, run_id).id)
    if not path.exists():
        raise NotFound("This import refused no rows.")
    return FileResponse(path, media_type="text/csv", filename=f"refused-rows-{run_id}.csv")
