"""Care: contact limits, quiet hours, the volume guard, silence of a part."""

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.channels import CHANNELS
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.validation_errors import say_error
from loyalbell.services.catalogue import queries as catalogue_queries
from loyalbell.services.settings.channels import (
    MOST_HELD_OUT,
    CareSettings,
    HoldoutSettings,
    change_holdout,
    keep,
    loaded,
)
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.get("/settings/care")
def care(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _care(context, loaded(context.application, CareSettings), saved=bool(saved))


def _care(
    context: RequestContext, settings: CareSettings, problem: str | None = None, saved: bool = False
) -> Response:
    departments = catalogue_queries.department_names(context.application)
    values = {
        "care": settings,
        "problem": problem,
        "saved": saved,
        "holdout": loaded(context.application, HoldoutSettings),
        "departments": departments,
        "channels": CHANNELS,
    }
    return context.page("settings/care.html", "settings", 422 if problem else 200, **values)


@router.post("/settings/care")
def save_care(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    kept = loaded(context.application, CareSettings)
    try:
        limits = [
            FrequencyCap(count=number_of(form, f"count{at}") or 0, days=number_of(form, f"days{at}") or 1)
            for at in range(4)
            if text_of(form, f"count{at}").strip()
        ]
        made = CareSettings.model_validate(
            {
                "limits": [limit.model_dump() for limit in limits],
                "quiet_begins": text_of(form, "quiet_begins"),
                "quiet_ends": text_of(form, "quiet_ends"),
                "holidays": "holidays" in form,
                "closed": text_of(form, "closed").split(),
                "leap_day": text_of(form, "leap_day", "28 February"),
                "guard_factor": text_of(form, "guard_factor", "3"),
                "guard_floor": text_of(form, "guard_floor", "50"),
                "newcomer_percent": text_of(form, "newcomer_percent", "1"),
                "silent": [str(one) for one in form.getlist("silent")],
                "silent_departments": [str(one) for one in form.getlist("silent_departments")],
            }
        )
    except ValidationError as error:
        return _care(context, kept, f"{say_error(error.errors()[0])}.")
    share = number_of(form, "holdout") or 0
    if not 0 <= share <= MOST_HELD_OUT:
        return _care(context, kept, f"Leave out between 0 and {MOST_HELD_OUT} % of all customers.")
    keep(context.application, made, "care", context.by)
    if "holdout" in form:
        change_holdout(context.application, share, context.by)
    return context.go("/settings/care?saved=yes")
