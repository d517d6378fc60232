"""Approvals: what needs a second person, and declining or taking back a request."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services import approvals
from loyalbell.services.accounts.permissions import Permission
from loyalbell.services.approvals import ApprovalSettings
from loyalbell.services.settings.channels import keep
from loyalbell.storage.schema import ApprovalRequest
from loyalbell.web.request import Form, NotAllowed, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.post("/people/approval")
def keep_settings(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    typed, wants = text_of(form, "people").strip(), bool(text_of(form, "above"))
    people = number_of(form, "people")
    if wants and people is None:
        said = f"“{typed[:40]}” is not a number of people." if typed else "Say above how many people."
        return context.go(f"/people?wrong={said}#approval")
    made = ApprovalSettings(people=people if wants else None, publishing=bool(text_of(form, "publishing")))
    keep(context.application, made, "approval", context.by)
    return context.go("/people?said=approval#approval")


@router.post("/approvals/{request_id:int}/decline")
def decline(request_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """By who may approve, or by who asked."""
    request = context.application.find(ApprovalRequest, request_id)
    if request is None:
        raise NotFound("No such request is on file.")
    if request.user_id != context.user_id and not context.may(Permission.APPROVE):
        raise NotAllowed
    approvals.decline(context.application, request_id, text_of(form, "words").strip(), context.visitor)
    return context.go(page_of(request))


def page_of(request: ApprovalRequest) -> str:
    if request.kind == "campaign":
        return f"/campaigns/{request.about_id}"
    return f"/sequences/{request.about_id}/publish"
