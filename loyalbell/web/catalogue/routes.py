"""The catalogue: a list to search and change, and a page for each item."""

from collections.abc import Callable
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData, UploadFile

from loyalbell.core.history.money import minor_digits
from loyalbell.core.history.next_items import bought_next
from loyalbell.services.application import Application
from loyalbell.services.catalogue import items as catalogue
from loyalbell.services.catalogue import queries
from loyalbell.services.messages.gallery import CannotTake
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.page_figures import Names
from loyalbell.storage.files.export_rows import plain_money
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
ENOUGH_BUYERS = 10


@router.get("/catalogue")
def page(
    context: RequestContext = SignedIn,
    q: str = "",
    category: str = "",
    department: str = "",
    lacks: str = "",
    sort: str = "sold",
    page: int = 1,
) -> Response:
    number = int(department) if department.isdecimal() else None
    sought = catalogue.Sought(q.strip()[:100], category, number, lacks, sort)
    return _page(context, sought, max(page, 1))


def _page(
    context: RequestContext,
    sought: catalogue.Sought = catalogue.Sought(),
    page: int = 1,
    problem: str | None = None,
    said: str = "",
) -> Response:
    application = context.application
    total, shown = catalogue.items(application, sought, page)
    return context.page(
        "catalogue/catalogue.html",
        "catalogue",
        422 if problem else 200,
        shown=shown,
        total=total,
        sought=sought,
        page=page,
        pages=-(-total // catalogue.PAGE),
        categories=queries.categories(application),
        departments=queries.department_names(application),
        sorts=catalogue.SORTS,
        marks=catalogue.MARKS,
        problem=problem,
        said=said,
        any_items=bool(total) or bool(queries.item_names(application)),
    )


@router.get("/catalogue/new")
def new(context: RequestContext = SignedIn) -> Response:
    return _item(context, None, {"in_stock": "1"})


@router.get("/catalogue/{item_id:int}")
def item_page(item_id: int, context: RequestContext = SignedIn, saved: str = "") -> Response:
    shown = catalogue.find(context.application, item_id)
    if shown is None:
        raise NotFound("No such item is in the catalogue.")
    return _item(context, shown, None, saved=bool(saved))


def _item(
    context: RequestContext,
    shown: catalogue.Shown | None,
    form: dict[str, Any] | None,
    problem: str | None = None,
    saved: bool = False,
) -> Response:
    application = context.application
    values: dict[str, Any] = {
        "shown": shown,
        "form": form if form is not None else _entered(context, shown),
        "problem": problem,
        "saved": saved,
        "categories": queries.categories(application),
        "departments": queries.department_names(application),
        "rhythm": None,
        "next_items": [],
    }
    if shown is not None:
        values |= _what_buyers_do(context, shown)
    return context.page("catalogue/item.html", "catalogue", 422 if problem else 200, **values)


def _entered(context: RequestContext, shown: catalogue.Shown | None) -> dict[str, Any]:
    """An item as its form holds it."""
    if shown is None:
        return {}
    item, digits = shown.item, minor_digits(context.application.the_shop().currency)
    return {
        "name": item.name,
        "external_id": item.external_id or "",
        "category": item.category or "",
        "department": shown.department,
        "price": plain_money(item.price_minor, digits),
        "margin": plain_money(item.margin_minor, digits),
        "link": item.link or "",
        "lasts_days": item.lasts_days or "",
        "in_stock": item.in_stock,
    }


def _what_buyers_do(context: RequestContext, shown: catalogue.Shown) -> dict[str, Any]:
    application = context.application
    now = int(application.clock.now().timestamp())
    snapshot = application.snapshot()
    buyers, found = bought_next(snapshot.lines, len(snapshot.people), shown.item.id, now)
    names = dict(queries.item_names(application))
    repeat = None
    if buyers >= ENOUGH_BUYERS:
        repeat = page_figures.repeat(application, Names(item=shown.item.name))["all"]
    return {
        "buyers": buyers,
        "rhythm": repeat,
        "next_items": [(number, names.get(number, ""), people, people / buyers) for number, people in found],
    }


@router.post("/catalogue")
def keep(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    item_id = number_of(form, "id")
    fields = {name: value for name, value in form.items() if isinstance(value, str)}
    try:
        made = catalogue.keep(context.application, item_id, fields, context.by)
    except catalogue.ItemProblem as problem:
        shown = catalogue.find(context.application, item_id) if item_id else None
        return _item(context, shown, fields, str(problem))
    return context.go(f"/catalogue/{made}?saved=yes")


@router.post("/catalogue/many")
def change_many(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    ids = [int(value) for value in form.getlist("item") if isinstance(value, str) and value.isdecimal()]
    fields = {name: value for name, value in form.items() if isinstance(value, str)}
    try:
        many = catalogue.change_many(context.application, ids, fields, context.by)
    except catalogue.ItemProblem as problem:
        return _page(context, problem=str(problem))
    return _page(context, said=f"{many:,} {'item' if many == 1 else 'items'} changed")


@router.post("/catalogue/pictures")
async def pictures(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Many pictures at once, named after their items."""
    files = [
        (file.filename or "", await file.read())
        for file in form.getlist("file")
        if isinstance(file, UploadFile) and file.filename
    ]
    if not files:
        return _page(context, problem="Choose some pictures first.")
    taken, others = catalogue.give_pictures(context.application, files, context.by)
    problem = " ".join(others[:10]) or None
    return _page(context, problem=problem, said=f"{taken:,} {'picture' if taken == 1 else 'pictures'} taken")


@router.post("/catalogue/{item_id:int}/picture")
async def picture(item_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    return await _file(item_id, context, form, catalogue.give_picture, catalogue.drop_picture)


@router.post("/catalogue/{item_id:int}/care-sheet")
async def care_sheet(item_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    return await _file(item_id, context, form, catalogue.give_care_sheet, catalogue.drop_care_sheet)


async def _file(
    item_id: int,
    context: RequestContext,
    form: FormData,
    give: Callable[[Application, int, str, bytes, str], None],
    drop: Callable[[Application, int, str], None],
) -> Response:
    """A file of an item, given or taken away."""
    shown = catalogue.find(context.application, item_id)
    if shown is None:
        raise NotFound("No such item is in the catalogue.")
    file = form.get("file")
    if text_of(form, "act") == "delete":
        drop(context.application, item_id, context.by)
    elif isinstance(file, UploadFile) and file.filename:
        try:
            give(context.application, item_id, file.filename, await file.read(), context.by)
        except CannotTake as problem:
            return _item(context, shown, None, str(problem))
    return context.go(f"/catalogue/{item_id}")
