"""Settings, Backups and Health: for whoever looks after the machine that Loyal Bell runs on."""

from pathlib import Path

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.services.backups import commands, queries
from loyalbell.services.backups.settings import BackupSettings
from loyalbell.services.delivery import perhaps_gone
from loyalbell.services.health.room import megabytes
from loyalbell.services.health.standing import standing
from loyalbell.services.settings.channels import keep
from loyalbell.storage.backup_file import BackupProblem
from loyalbell.web import logs
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of
from loyalbell.web.settings.machine_views import backup_line, backup_rows, health_lines
from loyalbell.web.watching_routes import wrong_with

router = APIRouter()
WRONG = {
    "every_hours": "Give the hours between two backups as a whole number from 1 to 168.",
    "keep": "Give how many to keep as a whole number from 2 to 365.",
    "folder": "The folder’s name is too long.",
}


@router.get("/settings/backups")
def backups_page(context: RequestContext = SignedIn, made: str = "", saved: str = "") -> Response:
    return _page(context, made=made, saved=bool(saved))


def _page(
    context: RequestContext,
    problem: str | None = None,
    typed: dict[str, str] | None = None,
    made: str = "",
    saved: bool = False,
) -> Response:
    found = queries.standing(context.application)
    values = {
        "rows": backup_rows(found),
        "found": found,
        "line": backup_line(found),
        "typed": typed or found.settings.model_dump(),
        "problem": problem,
        "total": megabytes(found.total),
        "made": made,
        "saved": saved,
    }
    return context.page("settings/backups.html", "settings", 422 if problem else 200, **values)


@router.post("/settings/backups/now")
def back_up_now(context: RequestContext = SignedIn) -> Response:
    try:
        made = commands.make(context.application, by=context.by)
    except BackupProblem as problem:
        return _page(context, str(problem))
    return context.go(f"/settings/backups?made={made.path.name}")


@router.post("/settings/backups")
def save_backups(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    typed = {name: text_of(form, name).strip() for name in ("every_hours", "keep", "folder")}
    try:
        chosen = BackupSettings.model_validate(typed)
    except ValidationError as error:
        return _page(context, f"Nothing is saved yet. {WRONG[str(error.errors()[0]['loc'][0])]}", typed)
    if chosen.folder:
        folder = Path(chosen.folder).expanduser()
        if not folder.is_absolute() or not folder.is_dir():
            words = (
                f"Nothing is saved yet. There is no folder {chosen.folder}; give its whole path, from / on."
            )
            return _page(context, words, typed)
    keep(context.application, chosen, "backups", context.by)
    return context.go("/settings/backups?saved=yes")


@router.get("/settings/backups/{name}")
def download_backup(name: str, context: RequestContext = SignedIn) -> Response:
    found = queries.backup_named(context.application, name)
    if found is None:
        raise NotFound("There is no such backup.")
    # it is compressed as it is
    headers = {"Content-Encoding": "identity"}
    context.note("downloaded a backup", file=found.path.name)
    return FileResponse(found.path, media_type="application/zip", filename=found.path.name, headers=headers)


@router.post("/settings/backups/{name}/check")
def check_backup(name: str, context: RequestContext = SignedIn) -> Response:
    found = queries.backup_named(context.application, name)
    if found is None:
        raise NotFound("There is no such backup.")
    try:
        contents = queries.checked(found)
    except BackupProblem as problem:
        return HTMLResponse(context.piece("settings/backup_checked.html", problem=str(problem)))
    return HTMLResponse(context.piece("settings/backup_checked.html", contents=contents, problem=None))


@router.get("/settings/health")
def health_page(context: RequestContext = SignedIn) -> Response:
    application = context.application
    shop, now = application.the_shop(), application.clock.now()
    lines = health_lines(
        standing(application),
        queries.standing(application),
        wrong_with(context.request),
        now,
        shop.zone,
    )
    return context.page(
        "settings/health.html", "settings", lines=lines, errors=list(logs.recent_errors)[::-1]
    )


@router.get("/settings/restored")
def restored_page(context: RequestContext = SignedIn) -> Response:
    """After a restore: what is known, what is not, and what to do before anything is sent again."""
    found = perhaps_gone.restored(context.application)
    if found.until is None:
        raise NotFound("This book was never restored from a backup.")
    doubtful = perhaps_gone.doubtful_count(context.application)
    return context.page("settings/restored.html", "settings", restored=found, doubtful=doubtful)


@router.post("/settings/restored")
def seen_restored(context: RequestContext = SignedIn) -> Response:
    perhaps_gone.note_seen(context.application, context.by)
    return context.go("/")
