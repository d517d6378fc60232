"""The shop's own fields and yearly dates: what they are, where they are used, for how many they are known."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.desk import custom_fields
from loyalbell.desk.custom_fields import CannotKeepField
from loyalbell.store.records.custom_fields import KINDS
from loyalbell.web.visit import Form, SignedIn, Visit, text_of

router = APIRouter()


@router.get("/fields")
def list_page(visit: Visit = SignedIn) -> Response:
    return _page(visit)


def _page(visit: Visit, problem: str | None = None, typed: FormData | None = None) -> Response:
    values = {
        "uses": custom_fields.in_use(visit.desk),
        "dates": custom_fields.dates_in_use(visit.desk),
        "kinds": KINDS,
        "problem": problem,
        "typed": typed or {},
    }
    return visit.page("fields/fields.html", "fields", 422 if problem else 200, **values)


@router.post("/fields")
def make(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    choices = [one.strip() for one in text_of(form, "choices").splitlines()]
    try:
        custom_fields.make_field(visit.desk, text_of(form, "name"), text_of(form, "kind"), choices, visit.by)
    except CannotKeepField as problem:
        return _page(visit, str(problem), form)
    return visit.go("/fields")


@router.post("/fields/{field_id}")
def change(field_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    choices = [one.strip() for one in text_of(form, "choices").splitlines()]
    try:
        if text_of(form, "act") == "delete":
            custom_fields.delete_field(visit.desk, field_id, visit.by)
        else:
            custom_fields.change_field(visit.desk, field_id, text_of(form, "name"), choices, visit.by)
    except CannotKeepField as problem:
        return _page(visit, str(problem), form)
    return visit.go("/fields")
