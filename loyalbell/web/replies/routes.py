"""Replies: what customers wrote back, and our answers."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.channels import CHANNELS
from loyalbell.services.accounts import sessions
from loyalbell.services.accounts.permissions import Permission, may
from loyalbell.services.replies import inbox
from loyalbell.storage.schema import Person, Reply
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.get("/replies")
def list_page(
    context: RequestContext = SignedIn, state: str = "open", channel: str = "", mine: str = ""
) -> Response:
    application = context.application
    own = context.visitor.user_id if mine else None
    only = channel if channel in CHANNELS else ""
    found, load = inbox.in_the_inbox(application, state == "done", only, own), inbox.load_of(application)
    return context.page(
        "replies/inbox.html",
        "replies",
        threads=found,
        load=load,
        state=state,
        channel=channel,
        mine=mine,
        most=max([*load.by_hour, *load.staffed, 1]),
    )


@router.get("/replies/answers")
def canned(context: RequestContext = SignedIn) -> Response:
    kept = inbox.canned_answers(context.application)
    return context.page("replies/canned.html", "replies", canned=kept)


@router.post("/replies/answers")
def keep_canned(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    if text_of(form, "act") == "delete":
        inbox.drop_canned(context.application, number_of(form, "id") or 0)
        return context.go("/replies/answers")
    try:
        inbox.keep_canned(context.application, text_of(form, "name"), text_of(form, "text"))
    except inbox.CannotAnswer as problem:
        return context.problem(str(problem))
    return context.go("/replies/answers")


def _reply(context: RequestContext, reply_id: int) -> Reply:
    reply = context.application.find(Reply, reply_id)
    if reply is None:
        raise NotFound("No such reply is on file.")
    return reply


@router.get("/replies/{reply_id}")
def thread_page(reply_id: int, context: RequestContext = SignedIn, sent: str = "") -> Response:
    reply = _reply(context, reply_id)
    application = context.application
    person = application.find(Person, reply.person_id)
    lines, kept = inbox.lines_of(application, reply), inbox.canned_answers(application)
    staff = [one for one in sessions.everyone(application) if may(one.role, Permission.REPLIES)]
    return context.page(
        "replies/thread.html",
        "replies",
        reply=reply,
        person=person,
        lines=lines,
        canned=kept,
        staff=staff,
        sent=bool(sent),
    )


@router.post("/replies/{reply_id}/answer")
def answer(reply_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    _reply(context, reply_id)
    try:
        inbox.answer(context.application, reply_id, text_of(form, "text"), context.by)
    except inbox.CannotAnswer as problem:
        return context.problem(str(problem))
    context.wake()
    return context.go(f"/replies/{reply_id}?sent=yes")


@router.post("/replies/{reply_id}/settle")
def settle(reply_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    _reply(context, reply_id)
    act = text_of(form, "act")
    if act == "assign":
        inbox.assign(context.application, reply_id, number_of(form, "user"))
        return context.go(f"/replies/{reply_id}")
    inbox.mark(context.application, reply_id, act == "done", context.by)
    return context.go("/replies" if act == "done" else f"/replies/{reply_id}")
