"""The shop's own fields and yearly dates: what they are, where they are used, for how many they are known."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.customers import asking, custom_fields
from loyalbell.services.customers.custom_fields import CannotKeepField
from loyalbell.storage.records.custom_fields import KINDS
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()


@router.get("/fields")
def list_page(context: RequestContext = SignedIn) -> Response:
    return fields_page(context)


def fields_page(
    context: RequestContext, problem: str | None = None, typed: FormData | None = None
) -> Response:
    values = {
        "uses": custom_fields.in_use(context.application),
        "dates": custom_fields.dates_in_use(context.application),
        "kinds": KINDS,
        "problem": problem,
        "typed": typed or {},
    }
    return context.page("customers/fields.html", "fields", 422 if problem else 200, **values)


@router.post("/fields")
def make(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    choices = [one.strip() for one in text_of(form, "choices").splitlines()]
    try:
        custom_fields.make_field(
            context.application, text_of(form, "name"), text_of(form, "kind"), choices, context.by
        )
    except CannotKeepField as problem:
        return fields_page(context, str(problem), form)
    return context.go("/fields")


@router.post("/fields/yearly")
def make_yearly(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A new day that comes round every year."""
    try:
        asking.make_yearly(context.application, text_of(form, "name"), context.by)
    except asking.NotTaken as problem:
        return fields_page(context, str(problem))
    return context.go("/fields")


@router.post("/fields/{field_id:int}")
def change(field_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    choices = [one.strip() for one in text_of(form, "choices").splitlines()]
    try:
        if text_of(form, "act") == "delete":
            custom_fields.delete_field(context.application, field_id, context.by)
        else:
            custom_fields.change_field(
                context.application, field_id, text_of(form, "name"), choices, context.by
            )
    except CannotKeepField as problem:
        return fields_page(context, str(problem), form)
    return context.go("/fields")
