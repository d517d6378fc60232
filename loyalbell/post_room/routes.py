"""The post room: mail as it arrived, and a till to ring up an order for whoever got it."""

import json
import re
import time
import uuid

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from markupsafe import escape
from starlette.datastructures import FormData

from loyalbell.channels.webhook import deliver
from loyalbell.core.messages.text_parts import parts
from loyalbell.post_room.store import MOODS, Mail, PostRoomStore
from loyalbell.services.catalogue import queries as catalogue_queries
from loyalbell.services.customers import ordering
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.settings.channels import GATEWAYS, loaded
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
PAGE = 50
_ADDRESS = re.compile(r"https?://[^\s<>&\"']+")


def _room(context: RequestContext) -> PostRoomStore:
    room: PostRoomStore = context.request.app.state.post_room
    return room


def _mail(context: RequestContext, mail_id: int) -> Mail:
    mail = _room(context).open(mail_id)
    if mail is None or mail.parsed is None:
        raise NotFound("No such mail has arrived.")
    return mail


@router.get("/post-room")
def arrived(
    context: RequestContext = SignedIn, q: str = "", page: int = 1, channel: str = "email"
) -> Response:
    room, page = _room(context), max(page, 1)
    channel = channel if channel in ("text", "chat") else "email"
    skip = (page - 1) * PAGE
    count = room.count(q) if channel == "email" else room.count_shorts(channel, q)
    return context.page(
        "post_room/post_room.html",
        "post-room",
        channel=channel,
        count=count,
        q=q,
        page=page,
        mails=room.newest(q, PAGE, skip) if channel == "email" else [],
        shorts=room.shorts(channel, q, PAGE, skip) if channel != "email" else [],
        pages=max(1, -(-count // PAGE)),
        moods=MOODS,
        now_moods={name: f"{room.mood(name):g}" for name in MOODS},
    )


@router.post("/post-room/moods")
def moods(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    for name in MOODS:
        try:
            _room(context).set_mood(name, min(max(float(text_of(form, name, "0") or 0), 0.0), 100.0))
        except ValueError:
            continue
    return context.go("/post-room")


@router.get("/post-room/mbox")
def mbox(context: RequestContext = SignedIn) -> Response:
    return Response(
        _room(context).as_mbox(),
        media_type="application/mbox",
        headers={"Content-Disposition": 'attachment; filename="post-room.mbox"'},
    )


@router.get("/post-room/short/{at}")
def short_page(at: int, context: RequestContext = SignedIn, said: str = "") -> Response:
    short = _room(context).open_short(at)
    if short is None:
        raise NotFound("No such message has arrived.")
    text = str(short.body.get("text", ""))
    return context.page(
        "post_room/short.html",
        "post-room",
        short=short,
        said=bool(said),
        pieces=re.split(r"(https?://\S+)", text),
        counted=parts(text) if short.channel == "text" else None,
    )


@router.post("/post-room/short/{at}/answer")
def write_back(at: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What the customer writes goes through the network and its signed call, as anybody's would."""
    short = _room(context).open_short(at)
    if short is None:
        raise NotFound("No such message has arrived.")
    words = text_of(form, "quick") or text_of(form, "text")
    secret = loaded(context.application, GATEWAYS[short.channel]).secret
    body = {
        "type": "received",
        "id": f"by-hand-{uuid.uuid4().hex}",
        "from": short.recipient,
        "text": words[:2_000],
    }
    url = f"{context.application.the_shop().public_url}/callbacks/{short.channel}"
    deliver(url, secret, f"msg_{uuid.uuid4().hex}", int(time.time()), json.dumps(body), inside=True)
    return context.go(f"/post-room/short/{at}?said=yes")


def _page(
    context: RequestContext, mail_id: int, show: str, problem: str | None = None, rung: bool = False
) -> Response:
    mail = _mail(context, mail_id)
    assert mail.parsed is not None
    person = customer_queries.person_named(context.application, mail.recipient)
    items = catalogue_queries.every_item(context.application)
    values = {
        "mail": mail,
        "headers": list(mail.parsed.items()),
        "plain": _plain(mail),
        "person": person,
        "items": items,
        "show": show if show in ("html", "plain", "headers") else "html",
        "problem": problem,
        "rung": rung,
    }
    return context.page("post_room/mail.html", "post-room", 422 if problem else 200, **values)


@router.get("/post-room/{mail_id}")
def mail_page(
    mail_id: int, context: RequestContext = SignedIn, show: str = "html", rung: str = ""
) -> Response:
    return _page(context, mail_id, show, rung=bool(rung))


@router.get("/post-room/{mail_id}/html")
def mail_html(mail_id: int, context: RequestContext = SignedIn) -> Response:
    mail = _mail(context, mail_id)
    body = mail.parsed.get_body(("html",)) if mail.parsed else None
    content = body.get_content() if body else _as_page(_plain(mail))
    return HTMLResponse(content, headers={"X-Mail-Page": "yes"})


def _plain(mail: Mail) -> str:
    body = mail.parsed.get_body(("plain",)) if mail.parsed else None
    return body.get_content() if body else ""


def _as_page(plain: str) -> str:
    """A mail of text alone, with its addresses to click on, as mail programs show it."""
    return f"<pre>{_ADDRESS.sub(_linked, str(escape(plain)))}</pre>"


def _linked(found: re.Match[str]) -> str:
    return f'<a href="{found[0]}" target="_top" rel="noopener">{found[0]}</a>'


@router.post("/post-room/{mail_id}/order")
def order(mail_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    person, item = number_of(form, "person"), number_of(form, "item")
    try:
        ordering.ring_up(context.application, person or 0, item or 0, text_of(form, "amount"), context.by)
    except ordering.CannotRingUp as problem:
        return _page(context, mail_id, "html", str(problem))
    return context.go(f"/post-room/{mail_id}?rung=yes")
