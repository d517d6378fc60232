"""The post room: mail as it arrived, and a till to ring up an order for whoever got it."""

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.channels.post_room.store import Mail, PostRoomStore
from loyalbell.desk import ordering
from loyalbell.store.tables import Item, Person
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
PAGE = 50


def _room(visit: Visit) -> PostRoomStore:
    room: PostRoomStore | None = visit.request.app.state.room
    if room is None:
        raise NotFound("The post room is only there in the demo.")
    return room


def _mail(visit: Visit, mail_id: int) -> Mail:
    mail = _room(visit).open(mail_id)
    if mail is None or mail.parsed is None:
        raise NotFound("No such mail has arrived.")
    return mail


@router.get("/post-room")
def arrived(visit: Visit = SignedIn, q: str = "", page: int = 1) -> Response:
    room, page = _room(visit), max(page, 1)
    count = room.count(q)
    mails = room.newest(q, PAGE, (page - 1) * PAGE)
    pages = max(1, -(-count // PAGE))
    return visit.page(
        "post_room/post_room.html", "post-room", mails=mails, count=count, q=q, page=page, pages=pages
    )


def _page(visit: Visit, mail_id: int, show: str, problem: str | None = None, rung: bool = False) -> Response:
    mail = _mail(visit, mail_id)
    assert mail.parsed is not None
    plain = mail.parsed.get_body(("plain",))
    with visit.desk.book.reading() as session:
        person = session.scalar(select(Person).where(Person.email == mail.recipient).order_by(Person.id))
        items = list(session.scalars(select(Item).order_by(Item.name)))
    values = {
        "mail": mail,
        "headers": list(mail.parsed.items()),
        "plain": plain.get_content() if plain else "",
        "person": person,
        "items": items,
        "show": show if show in ("html", "plain", "headers") else "html",
        "problem": problem,
        "rung": rung,
    }
    return visit.page("post_room/mail.html", "post-room", 422 if problem else 200, **values)


@router.get("/post-room/{mail_id}")
def mail_page(mail_id: int, visit: Visit = SignedIn, show: str = "html", rung: str = "") -> Response:
    return _page(visit, mail_id, show, rung=bool(rung))


@router.get("/post-room/{mail_id}/html")
def mail_html(mail_id: int, visit: Visit = SignedIn) -> Response:
    mail = _mail(visit, mail_id)
    body = mail.parsed.get_body(("html",)) if mail.parsed else None
    content = body.get_content() if body else "<p>This mail has no HTML part.</p>"
    return HTMLResponse(content, headers={"X-Mail-Page": "yes"})


@router.post("/post-room/{mail_id}/order")
def order(mail_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    person, item = number_of(form, "person"), number_of(form, "item")
    try:
        ordering.ring_up(visit.desk, person or 0, item or 0, text_of(form, "amount"), visit.by)
    except ordering.CannotRingUp as problem:
        return _page(visit, mail_id, "html", str(problem))
    return visit.go(f"/post-room/{mail_id}?rung=yes")
