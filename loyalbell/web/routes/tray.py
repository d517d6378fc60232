"""The reply tray."""

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.desk import tray
from loyalbell.store.tables import CannedAnswer, Person, Reply, User
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()


@router.get("/replies")
def list_page(visit: Visit = SignedIn, state: str = "open", channel: str = "", mine: str = "") -> Response:
    with visit.desk.book.reading() as session:
        own = visit.visitor.user_id if mine else None
        found = tray.threads(
            session, state == "done", channel if channel in ("email", "text", "chat") else "", own
        )
        load = tray.load(session, visit.desk.clock.now())
    return visit.page(
        "tray/tray.html", "tray", threads=found, load=load, state=state, channel=channel, mine=mine,
        most=max([*load.by_hour, *load.staffed, 1]),
    )  # fmt: skip


@router.get("/replies/answers")
def canned(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        kept = list(session.scalars(select(CannedAnswer).order_by(CannedAnswer.name)))
    return visit.page("tray/canned.html", "tray", canned=kept)


@router.post("/replies/answers")
def keep_canned(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    if text_of(form, "act") == "delete":
        tray.drop_canned(visit.desk, number_of(form, "id") or 0)
        return visit.go("/replies/answers")
    try:
        tray.keep_canned(visit.desk, text_of(form, "name"), text_of(form, "text"))
    except tray.CannotAnswer as problem:
        return visit.problem(str(problem))
    return visit.go("/replies/answers")


def _reply(visit: Visit, reply_id: int) -> Reply:
    with visit.desk.book.reading() as session:
        reply = session.get(Reply, reply_id)
    if reply is None:
        raise NotFound("No such reply is on file.")
    return reply


@router.get("/replies/{reply_id}")
def thread_page(reply_id: int, visit: Visit = SignedIn, sent: str = "") -> Response:
    reply = _reply(visit, reply_id)
    with visit.desk.book.reading() as session:
        person = session.get(Person, reply.person_id) if reply.person_id else None
        lines = tray.thread(session, reply)
        kept = list(session.scalars(select(CannedAnswer).order_by(CannedAnswer.name)))
        staff = list(session.scalars(select(User).order_by(User.name)))
    return visit.page(
        "tray/thread.html", "tray", reply=reply, person=person, lines=lines, canned=kept, staff=staff, sent=bool(sent),
    )  # fmt: skip


@router.post("/replies/{reply_id}/answer")
def answer(reply_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    _reply(visit, reply_id)
    try:
        tray.answer(visit.desk, reply_id, text_of(form, "text"), visit.by)
    except tray.CannotAnswer as problem:
        return visit.problem(str(problem))
    visit.wake()
    return visit.go(f"/replies/{reply_id}?sent=yes")


@router.post("/replies/{reply_id}/settle")
def settle(reply_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    _reply(visit, reply_id)
    act = text_of(form, "act")
    if act == "assign":
        tray.assign(visit.desk, reply_id, number_of(form, "user"))
        return visit.go(f"/replies/{reply_id}")
    tray.mark(visit.desk, reply_id, act == "done", visit.by)
    return visit.go("/replies" if act == "done" else f"/replies/{reply_id}")
