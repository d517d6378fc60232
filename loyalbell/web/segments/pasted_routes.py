"""Pasting a list of people into a fixed segment."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.segments import pasted_list
from loyalbell.services.segments.pasted_list import NotAList
from loyalbell.web.formatting import say_day
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()
SHOWN_NAMES = 12


@router.get("/segments/list")
def page(context: RequestContext = SignedIn) -> Response:
    return _page(context, "")


def _page(context: RequestContext, text: str, problem: str | None = None) -> Response:
    found, people = None, []
    if text and problem is None:
        try:
            found = pasted_list.read(context.application, text)
            people = pasted_list.names(context.application, found.known[:SHOWN_NAMES])
        except NotAList as why:
            problem = str(why)
    return context.page(
        "segments/pasted.html",
        "segments",
        422 if problem else 200,
        text=text,
        found=found,
        people=people,
        problem=problem,
        name=f"Pasted list, {say_day(context.application.clock.now().date())}",
    )


@router.post("/segments/list")
def look(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    text = text_of(form, "text")
    return _page(context, text, None if text.strip() else "Paste some addresses, numbers or ids first.")


@router.post("/segments/list/keep")
def keep(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    text = text_of(form, "text")
    try:
        found = pasted_list.read(context.application, text)
        made = pasted_list.keep(context.application, text_of(form, "name"), found.known, context.by)
    except NotAList as problem:
        return _page(context, text, str(problem))
    return context.go(f"/segments/{made}")


@router.post("/segments/list/unknown")
def bring_in_unknown(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    text = text_of(form, "text")
    try:
        found = pasted_list.read(context.application, text)
        agreed = text_of(form, "agreed") == "1"
        run = pasted_list.bring_in_unknown(context.application, found.unknown, agreed, context.by)
    except NotAList as problem:
        return _page(context, text, str(problem))
    return context.go(f"/imports/{run.id}")
