"""One's own sign-in: password, second factor, where one is signed in."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from markupsafe import Markup
from starlette.datastructures import FormData

from loyalbell.services.accounts import people, second_factor, sessions
from loyalbell.services.accounts.browsers import browser_words
from loyalbell.services.accounts.passwords import LEAST, WeakPassword
from loyalbell.services.accounts.people import PeopleProblem
from loyalbell.services.accounts.permissions import MAY, WORDS, Permission, Role
from loyalbell.storage.schema import User
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.get("/own")
def own_page(context: RequestContext = SignedIn, said: str = "") -> Response:
    return _page(
        context, said={"password": PASSWORD_SAID, "ended": ENDED_SAID, "off": OFF_SAID}.get(said, "")
    )


PASSWORD_SAID = "Your password is changed. You are signed out everywhere else."  # noqa: S105
ENDED_SAID = "Signed out there."
OFF_SAID = "The second factor is off. Your password alone lets you in."


def _page(context: RequestContext, problem: str = "", **values: Any) -> Response:
    application, user_id = context.application, context.user_id
    role = Role(context.visitor.role or "")
    shown = {
        "user": application.find(User, user_id),
        "role": role,
        "role_words": WORDS[role],
        "may": [one.value for one in Permission if one in MAY[role]],
        "sessions": sessions.sessions_of(application, user_id),
        "browser_words": browser_words,
        "this": context.visitor.session_id,
        "least": LEAST,
        "problem": problem,
        "said": "",
        "secret": "",
        "picture": "",
        "codes": (),
    }
    return context.page("accounts/own.html", "", 422 if problem else 200, **(shown | values))


@router.post("/own/password")
def change_password(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    new = text_of(form, "new")
    if new != text_of(form, "again"):
        return _page(context, "The two new passwords differ. Type the same one twice.")
    try:
        people.change_password(
            context.application, context.user_id, text_of(form, "old"), new, context.visitor.session_id
        )
    except (PeopleProblem, WeakPassword) as problem:
        return _page(context, str(problem))
    return context.go("/own?said=password")


@router.post("/own/second-factor")
def begin_second_factor(context: RequestContext = SignedIn) -> Response:
    return _scan(context, second_factor.new_secret())


def _scan(context: RequestContext, secret: str, problem: str = "") -> Response:
    """The secret travels in the form: it is kept only once a code of it was typed."""
    user = context.application.find(User, context.user_id)
    drawn = second_factor.picture(secret, user.email if user else "", context.application.the_shop().name)
    return _page(context, problem, secret=secret, picture=Markup(drawn))  # noqa: S704 (drawn by ourselves)


@router.post("/own/second-factor/on")
def second_factor_on(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    secret = text_of(form, "secret")
    if not second_factor.is_secret(secret):
        return _page(context, "This code belongs to no picture of ours. Begin again.")
    try:
        codes = second_factor.switch_on(
            context.application, context.user_id, secret, text_of(form, "code"), context.visitor.session_id
        )
    except PeopleProblem as problem:
        return _scan(context, secret, str(problem))
    return _page(context, codes=codes)


@router.post("/own/second-factor/off")
def second_factor_off(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        second_factor.switch_off(context.application, context.user_id, text_of(form, "password"))
    except PeopleProblem as problem:
        return _page(context, str(problem))
    return context.go("/own?said=off")


@router.post("/own/sessions")
def end_sessions(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """One of them, or all but this one."""
    only, mine = number_of(form, "session"), context.visitor.session_id
    with context.application.database.transaction() as session:
        sessions.end_sessions(session, context.user_id, but=None if only else mine, only=only)
        context.application.note(session, context.by, "ended sessions of their own")
    return context.go("/own?said=ended")
