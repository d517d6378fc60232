"""The gallery of pictures, and pictures as anybody sees them; letterheads; opening messages for chat."""

from fastapi import APIRouter
from fastapi.responses import JSONResponse, Response
from sqlalchemy import select
from starlette.datastructures import FormData, UploadFile

from loyalbell.desk import gallery, letterheads
from loyalbell.store.tables import GalleryPicture, OpeningMessage
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()


@router.get("/gallery")
def page(visit: Visit = SignedIn) -> Response:
    return _page(visit)


def _page(visit: Visit, problem: str | None = None) -> Response:
    with visit.desk.book.reading() as session:
        pictures = session.execute(
            select(
                GalleryPicture.id, GalleryPicture.token, GalleryPicture.name, GalleryPicture.alt,
                GalleryPicture.width, GalleryPicture.height, GalleryPicture.made_at,
            ).order_by(GalleryPicture.id.desc())
        ).all()  # fmt: skip
    return visit.page(
        "messages/gallery.html", "messages", 422 if problem else 200, pictures=pictures, problem=problem
    )


@router.post("/gallery/upload")
async def upload(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Answers JSON to the editor, the page again to the gallery."""
    file, plain = form.get("file"), bool(form.get("page"))
    try:
        if not isinstance(file, UploadFile) or not file.filename:
            raise gallery.CannotTake("Choose a picture first.")
        made = gallery.add_picture(
            visit.desk, file.filename, await file.read(), text_of(form, "alt"), visit.by
        )
    except gallery.CannotTake as problem:
        return _page(visit, str(problem)) if plain else JSONResponse({"problem": str(problem)}, 422)
    return visit.go("/gallery") if plain else JSONResponse({"id": made.id, "name": made.name})


@router.post("/gallery/{picture_id}")
def change(picture_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    if text_of(form, "act") == "delete":
        try:
            gallery.drop_picture(visit.desk, picture_id, visit.by)
        except gallery.CannotTake as problem:
            return _page(visit, str(problem))
    else:
        gallery.change_alt(visit.desk, picture_id, text_of(form, "alt"))
    return visit.go("/gallery")


@router.get("/letterheads")
def letterheads_page(visit: Visit = SignedIn, saved: str = "") -> Response:
    return _letterheads(visit, saved=bool(saved))


def _letterheads(visit: Visit, problem: str | None = None, saved: bool = False) -> Response:
    with visit.desk.book.reading() as session:
        kept = letterheads.every(session)
        pictures = session.execute(select(GalleryPicture.id, GalleryPicture.name)).all()
    values = {
        "letterheads": kept,
        "pictures": pictures,
        "fonts": letterheads.FONTS,
        "problem": problem,
        "saved": saved,
    }
    return visit.page("messages/letterheads.html", "messages", 422 if problem else 200, **values)


@router.post("/letterheads")
def keep_letterhead(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        if text_of(form, "act") == "delete":
            letterheads.drop(visit.desk, number_of(form, "id") or 0, visit.by)
        else:
            letterheads.keep(visit.desk, number_of(form, "id"), dict(form), visit.by)
    except letterheads.LetterheadProblem as problem:
        return _letterheads(visit, str(problem))
    return visit.go("/letterheads?saved=yes")


@router.get("/settings/openings")
def openings(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        kept = list(session.scalars(select(OpeningMessage).order_by(OpeningMessage.name)))
    return visit.page("settings/openings.html", "settings", openings=kept)


@router.post("/settings/openings")
def keep_opening(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        letterheads.keep_opening(
            visit.desk, number_of(form, "id"), text_of(form, "name"), text_of(form, "text"), visit.by
        )
    except letterheads.LetterheadProblem as problem:
        return visit.problem(str(problem))
    return visit.go("/settings/openings")


@router.post("/settings/openings/{opening_id}")
def settle_opening(opening_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """In the stand-in the network's word is given by hand."""
    state = text_of(form, "state")
    if state not in ("approved", "refused", "delete"):
        raise NotFound("There is no such state.")
    letterheads.settle_opening(visit.desk, opening_id, state, visit.by)
    return visit.go("/settings/openings")
