"""The gallery of pictures, and pictures as anybody sees them; letterheads; opening messages for chat."""

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.datastructures import FormData, UploadFile

from loyalbell.core.messages.email_rendering import DARK
from loyalbell.services.messages import gallery, letterheads
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.get("/gallery")
def page(context: RequestContext = SignedIn) -> Response:
    return _page(context)


def _page(context: RequestContext, problem: str | None = None) -> Response:
    pictures = gallery.pictures(context.application)
    return context.page(
        "messages/gallery.html", "messages", 422 if problem else 200, pictures=pictures, problem=problem
    )


@router.post("/gallery/upload")
async def upload(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Answers JSON to the editor, the page again to the gallery."""
    file, plain = form.get("file"), bool(form.get("page"))
    try:
        if not isinstance(file, UploadFile) or not file.filename:
            raise gallery.CannotTake("Choose a picture first.")
        made = gallery.add_picture(
            context.application, file.filename, await file.read(), text_of(form, "alt"), context.by
        )
    except gallery.CannotTake as problem:
        return _page(context, str(problem)) if plain else JSONResponse({"problem": str(problem)}, 422)
    return context.go("/gallery") if plain else JSONResponse({"id": made.id, "name": made.name})


@router.post("/gallery/{picture_id}/cut")
def cut(picture_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Answers JSON: the new picture, or what is wrong."""
    numbers = [number_of(form, name) for name in ("left", "top", "width", "height")]
    left, top, width, height = (0 if one is None else one for one in numbers)
    part = gallery.Cut(left, top, width, height)
    try:
        made = gallery.cut_picture(context.application, picture_id, part, context.by)
    except gallery.CannotTake as problem:
        return JSONResponse({"problem": str(problem)}, 422)
    return JSONResponse({"id": made.id, "name": made.name})


@router.post("/gallery/{picture_id}")
def change(picture_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    if text_of(form, "act") == "delete":
        try:
            gallery.drop_picture(context.application, picture_id, context.by)
        except gallery.CannotTake as problem:
            return _page(context, str(problem))
    else:
        gallery.change_alt(context.application, picture_id, text_of(form, "alt"))
    return context.go("/gallery")


@router.get("/letterheads")
def letterheads_page(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _letterheads(context, saved=bool(saved))


def _letterheads(context: RequestContext, problem: str | None = None, saved: bool = False) -> Response:
    kept, pictures = letterheads.for_their_page(context.application)
    values = {
        "letterheads": kept,
        "pictures": pictures,
        "fonts": letterheads.FONTS,
        "problem": problem,
        "saved": saved,
    }
    return context.page("messages/letterheads.html", "messages", 422 if problem else 200, **values)


@router.get("/letterheads/preview")
def letterhead_preview(context: RequestContext = SignedIn) -> Response:
    """A letter in the letterhead that the address describes; nothing is kept."""
    asked = dict(context.request.query_params)
    page = letterheads.preview_of(context.application, asked)
    wanted = "@media all" if asked.get("view") == "dark" else "@media not all"
    return HTMLResponse(page.replace(DARK, wanted), headers={"X-Mail-Page": "yes"})


@router.post("/letterheads")
def keep_letterhead(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        if text_of(form, "act") == "delete":
            letterheads.drop(context.application, number_of(form, "id") or 0, context.by)
        else:
            letterheads.keep(context.application, number_of(form, "id"), dict(form), context.by)
    except letterheads.LetterheadProblem as problem:
        return _letterheads(context, str(problem))
    return context.go("/letterheads?saved=yes")


@router.get("/settings/openings")
def openings(context: RequestContext = SignedIn) -> Response:
    kept = letterheads.openings(context.application)
    return context.page("settings/openings.html", "settings", openings=kept)


@router.post("/settings/openings")
def keep_opening(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        letterheads.keep_opening(
            context.application,
            number_of(form, "id"),
            text_of(form, "name"),
            text_of(form, "text"),
            context.by,
        )
    except letterheads.LetterheadProblem as problem:
        return context.problem(str(problem))
    return context.go("/settings/openings")


@router.post("/settings/openings/{opening_id}")
def settle_opening(opening_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """In the stand-in the network's word is given by hand."""
    state = text_of(form, "state")
    if state not in ("approved", "refused", "delete"):
        raise NotFound("There is no such state.")
    letterheads.settle_opening(context.application, opening_id, state, context.by)
    return context.go("/settings/openings")
