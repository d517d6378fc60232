"""Who works with the book: inviting, roles, departments, ending access."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.accounts import people, second_factor
from loyalbell.services.accounts.account_links import Invited
from loyalbell.services.accounts.people import PeopleProblem
from loyalbell.services.accounts.permissions import MAY, WORDS, Permission, Role
from loyalbell.services.approvals import ApprovalSettings
from loyalbell.services.catalogue.queries import department_names
from loyalbell.services.settings.channels import loaded
from loyalbell.storage.schema import User
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of

router = APIRouter()


@router.get("/people")
def people_page(context: RequestContext = SignedIn, said: str = "", wrong: str = "") -> Response:
    return _page(context, wrong[:200], said=said[:200])


def _page(
    context: RequestContext,
    problem: str = "",
    said: str = "",
    invited: Invited | None = None,
    form: FormData | None = None,
) -> Response:
    values: dict[str, Any] = {
        "people": people.everyone(context.application),
        "roles": WORDS,
        "permissions": list(Permission),
        "may": MAY,
        "departments": dict(department_names(context.application)),
        "problem": problem,
        "approval": loaded(context.application, ApprovalSettings),
        "said": said,
        "invited": invited,
        "form": form or {},
        "chosen": _departments(form) if form else [],
        "myself": context.user_id,
    }
    return context.page("accounts/people.html", "settings", 422 if problem else 200, **values)


def _departments(form: FormData) -> list[int]:
    return [int(one) for one in form.getlist("department") if isinstance(one, str) and one.isdecimal()]


@router.post("/people")
def invite(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        invited = people.invite(
            context.application,
            context.sender,
            text_of(form, "name"),
            text_of(form, "email"),
            text_of(form, "role"),
            _departments(form),
            context.by,
        )
    except PeopleProblem as problem:
        return _page(context, str(problem), form=form)
    return _page(context, invited=invited)


def _user(context: RequestContext, user_id: int) -> User:
    user = context.application.find(User, user_id)
    if user is None:
        raise NotFound("No such person is on file.")
    return user


@router.post("/people/{user_id:int}/role")
def change_role(user_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    user = _user(context, user_id)
    try:
        people.change(context.application, user.id, text_of(form, "role"), _departments(form), context.by)
    except PeopleProblem as problem:
        return _page(context, str(problem))
    return context.go(f"/people?said={Role(text_of(form, 'role'))}")


@router.post("/people/{user_id:int}/link")
def new_link(user_id: int, context: RequestContext = SignedIn) -> Response:
    """Another invitation, or a link for who is locked out."""
    user = _user(context, user_id)
    try:
        invited = people.invite_again(context.application, context.sender, user.id, context.by)
    except PeopleProblem as problem:
        return _page(context, str(problem))
    return _page(context, invited=invited)


@router.post("/people/{user_id:int}/second-factor")
def lift_second_factor(user_id: int, context: RequestContext = SignedIn) -> Response:
    """For who has lost the phone and the recovery codes."""
    second_factor.remove(context.application, _user(context, user_id).id, context.by)
    return context.go("/people?said=factor")


@router.post("/people/{user_id:int}/end")
def end_access(user_id: int, context: RequestContext = SignedIn) -> Response:
    try:
        people.end_access(context.application, _user(context, user_id).id, context.by)
    except PeopleProblem as problem:
        return _page(context, str(problem))
    return context.go("/people?said=ended")
