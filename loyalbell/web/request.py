"""One request: who asks, in which session, and the page they get back."""

from collections.abc import AsyncIterator, Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

from fastapi import APIRouter, Depends, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from jinja2 import Environment, FileSystemLoader, PrefixLoader, StrictUndefined
from starlette.datastructures import FormData
from starlette.exceptions import HTTPException

from loyalbell import __version__
from loyalbell.channels.smtp import SmtpSender
from loyalbell.core.channels import CHANNELS
from loyalbell.core.sequences.score import parted
from loyalbell.services.accounts import departments, sessions
from loyalbell.services.accounts.permissions import Permission, Role, may
from loyalbell.services.accounts.sessions import Visitor
from loyalbell.services.application import Application
from loyalbell.services.clock import DemoClock
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.replies import inbox
from loyalbell.web import formatting, permissions
from loyalbell.web.body_limits import limit_of
from loyalbell.web.page_help import help_for
from loyalbell.web.static_files import VersionedAddresses

COOKIE = "loyal_bell"
LOOK_COOKIE, LOOKS = "loyal_bell_look", ("light", "dark")
WEB = Path(__file__).parent

MENU = (
    ("/guide", "Getting started"),
    ("/handbook", "The guide"),
    ("/imports", "Imports and downloads"),
    ("/catalogue", "Catalogue"),
    ("/duplicates", "Duplicates"),
    ("/fields", "Fields and dates"),
    ("/offers", "Offers"),
    ("/till", "Till"),
    ("/other-programs", "Other programs"),
    ("/settings", "Settings"),
    ("/settings/channels", "Channels"),
    ("/settings/care", "Care"),
    ("/settings/results", "How results are counted"),
    ("/people", "People"),
    ("/settings/retention", "How long things are kept"),
    ("/settings/backups", "Backups"),
    ("/settings/health", "Health"),
    ("/held", "Held"),
    ("/log", "Log"),
)
"""Under the shop’s name; each sees what the own role includes."""
POST_ROOM = ("/post-room", "Post room")
AREAS = (
    ("today", "Today", "/", "t"),
    ("customers", "Customers", "/customers", "c"),
    ("rhythm", "Rhythm", "/rhythm", "y"),
    ("segments", "Segments", "/segments", "s"),
    ("messages", "Messages", "/messages", "m"),
    ("campaigns", "Campaigns", "/campaigns", "a"),
    ("sequences", "Sequences", "/sequences", "q"),
    ("results", "Results", "/results", "r"),
)


def _loader() -> PrefixLoader:
    """Templates by their area: ``segments/editor.html`` stands in ``segments/templates/`` beside its
    routes.
    """
    folders = {folder.parent.name: folder for folder in WEB.glob("*/templates")}
    folders |= {folder.name: folder for folder in (WEB / "templates").iterdir()}
    folders["post_room"] = WEB.parent / "post_room" / "templates"
    return PrefixLoader({name: FileSystemLoader(folder) for name, folder in folders.items()})


environment = Environment(
    loader=_loader(),
    autoescape=True,
    undefined=StrictUndefined,
    extensions=[VersionedAddresses],
    trim_blocks=True,
    lstrip_blocks=True,
)
environment.globals["channels_in_order"] = CHANNELS
environment.globals["parted"] = parted
environment.filters |= {
    "number": formatting.number,
    "about": formatting.about,
    "signed": formatting.signed,
    "percent": formatting.percent,
    "people": formatting.people,
    "phone": formatting.phone,
    "breaks": formatting.with_breaks,
    "settings_link": formatting.settings_link,
    "day_only": formatting.say_day,
    "month": formatting.say_month,
}


@dataclass(frozen=True)
class DemoParts:
    """What the pages of the made-up shop have beyond those of a real one.

    ``sign_in`` is its owner's email and password, shown on the sign-in page; ``clock_share`` is how far
    the demo's clock has walked of what was asked, from 0 to 1.
    """

    sign_in: tuple[str, str] | None = None
    routers: tuple[APIRouter, ...] = ()
    clock_share: Callable[[], float] = lambda: 1.0


class SignInFirst(Exception):
    """Nobody is signed in, or the session has run out."""


class NotAllowed(Exception):
    """The role of who asks does not include this; the argument says more, where there is more to say."""


class BadToken(Exception):
    """A write that did not come from one of our own pages."""


class TooManyFiles(Exception):
    """A form that carries more files than it may; the argument says how many."""


class NotFound(Exception):
    """What was asked for is not here; the argument says what."""


@dataclass
class RequestContext:
    """What a route needs of its request."""

    request: Request
    application: Application
    visitor: Visitor

    @property
    def by(self) -> str:
        return self.visitor.name or ""

    @property
    def user_id(self) -> int:
        return self.visitor.user_id or 0

    def may(self, permission: Permission) -> bool:
        return may(self.visitor.role, permission)

    def may_go(self, path: str, method: str = "GET") -> bool:
        return permissions.may_go(self.visitor.role, path, method)

    @property
    def sender(self) -> ShopSender:
        """For mails of the program itself."""
        return ShopSender(self.application, SmtpSender)

    def note(self, act: str, **detail: object) -> None:
        """A line of the log for what only reads, such as a download."""
        with self.application.database.transaction() as session:
            self.application.note(session, self.by, act, **detail)

    def page(self, template: str, area: str, status: int = 200, **values: Any) -> HTMLResponse:
        return HTMLResponse(self.piece(template, area=area, **values), status_code=status)

    def piece(self, template: str, **values: Any) -> str:
        made = self._rendered(template, values)
        known = self.visitor.role
        return made if known in (None, Role.OWNER) else permissions.without_dead_ends(known, made)

    def _rendered(self, template: str, values: Mapping[str, Any]) -> str:
        shop, now = self.application.shop(), self.application.clock.now()
        return render(
            template,
            {
                "shop": shop,
                "now": now,
                "say": formatting.Formatter(shop, now),
                "visitor": self.visitor,
                "may_go": self.may_go,
                "menu": (*MENU[:8], POST_ROOM, *MENU[8:]) if self._is_demo else MENU,
                "may_approve": self.may(Permission.APPROVE),
                "sees_names": self.may(Permission.CUSTOMERS),
                "demo": self._is_demo,
                "path": self.request.url.path,
                "theme": theme_of(self.request),
                "help": help_for(self.request.url.path.removeprefix(self.request.scope.get("root_path", ""))),
                "replies_waiting": self._replies_waiting(),
                "moving": self._moving(),
            }
            | dict(values),
        )

    @property
    def _is_demo(self) -> bool:
        return isinstance(self.application.clock, DemoClock)

    def _replies_waiting(self) -> int:
        return inbox.how_many_wait(self.application)

    def _moving(self) -> float:
        """How far the demo's clock has walked of what was asked; 1 where it stands."""
        demo: DemoParts | None = self.request.app.state.demo
        return demo.clock_share() if demo else 1.0

    def wake(self) -> None:
        """Lets the heartbeat tick at once, so that what was just decided happens now."""
        if self.request.app.state.heartbeat:
            self.request.app.state.heartbeat.wake()

    @property
    def typing(self) -> bool:
        """Whether a part of an open page asks, which keeps what is typed in it."""
        return "HX-Request" in self.request.headers

    def problem(self, words: str) -> HTMLResponse:
        """A note for the page that asked, which keeps everything typed on it."""
        return HTMLResponse(self.piece("parts/problem.html", problem=words))

    def go(self, where: str) -> Response:
        if self.typing:
            return Response(status_code=204, headers={"HX-Redirect": where})
        return RedirectResponse(where, status_code=303)


def render(template: str, values: Mapping[str, Any]) -> str:
    shared = {"areas": AREAS, "version": __version__, "area": "", "problem": None, "links": (), "theme": ""}
    return environment.get_template(template).render(shared | dict(values))


def theme_of(request: Request) -> str:
    """Which colours somebody chose in this browser: ``light``, ``dark``, or empty for those of the device."""
    chosen = request.cookies.get(LOOK_COOKIE, "")
    return chosen if chosen in LOOKS else ""


def application_of(request: Request) -> Application:
    application: Application = request.app.state.application
    return application


def _most_files(most: int) -> str:
    return "No file can be sent here." if most == 0 else f"Choose at most {most} files at once."


async def form_of(request: Request) -> FormData:
    files = limit_of(request.url.path.removeprefix(request.scope.get("root_path", ""))).files
    try:
        return await request.form(max_files=files, max_fields=5_000)
    except HTTPException as problem:
        if "Too many files" in str(problem.detail):
            raise TooManyFiles(_most_files(files)) from problem
        raise


async def signed_in(request: Request) -> AsyncIterator[RequestContext]:
    """A signed-in visit; writes must carry the session's token. Raises ``SignInFirst``, ``BadToken``."""
    application = application_of(request)
    visitor = sessions.find_session(application, request.cookies.get(COOKIE))
    if visitor is None:
        raise SignInFirst
    path = request.url.path.removeprefix(request.scope.get("root_path", ""))
    if permissions.needed(request.method, path) is None:
        raise NotFound("Nothing is at this address.")
    if not permissions.may_go(visitor.role, path, request.method):
        raise NotAllowed
    check_departments(application, visitor, path, request.method)
    if request.method not in ("GET", "HEAD"):
        await check_token(request, visitor)
    try:
        yield RequestContext(request, application, visitor)
    finally:
        await request.close()


def check_departments(application: Application, visitor: Visitor, path: str, method: str) -> None:
    """Who is bound to departments changes only the sequences of those. Raises ``NotAllowed``."""
    if method == "POST" and departments.is_out_of_bounds(application, visitor.departments, path):
        raise NotAllowed("It belongs to another department than yours.")


async def check_token(request: Request, visitor: Visitor) -> None:
    given = request.headers.get("X-CSRF-Token")
    if given is None:
        found = (await form_of(request)).get("_csrf")
        given = found if isinstance(found, str) else None
    if not sessions.csrf_holds(visitor, given):
        raise BadToken


SignedIn = Depends(signed_in)
Form = Depends(form_of)


def sign_in_address(request: Request) -> str:
    back = request.headers.get("HX-Current-URL") or str(request.url)
    path = "/" + back.split("/", 3)[3] if back.count("/") >= 3 else "/"
    return "/sign-in" + (f"?next={quote(path)}" if path != "/" else "")


def text_of(form: FormData, name: str, otherwise: str = "") -> str:
    value = form.get(name)
    return value if isinstance(value, str) else otherwise


def own_path(path: str, otherwise: str = "/") -> str:
    """Where to go on, if it is one of our own addresses; browsers read a backslash as a slash, and leave out
    what cannot be seen.
    """
    is_ours = path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable()
    return path if is_ours else otherwise


def number_of(form: FormData, name: str) -> int | None:
    text = text_of(form, name).strip()
    return int(text) if text.isdecimal() and len(text) < 16 else None
