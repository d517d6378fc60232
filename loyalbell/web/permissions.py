"""The gate: which permission each address needs. An address that no line names is open to nobody."""

import re
from dataclasses import dataclass
from functools import lru_cache

from loyalbell.services.accounts.permissions import Permission, may

P = Permission


@dataclass(frozen=True)
class Line:
    """``methods``: GET, POST, or both where it is empty; ``address`` fits the whole path."""

    methods: str
    address: re.Pattern[str]
    needs: Permission


def _lines(needs: Permission, *addresses: str) -> list[Line]:
    found = []
    for text in addresses:
        methods, _, address = text.rpartition(" ")
        found.append(Line(methods, re.compile(address), needs))
    return found


ID = r"-?\d+"
BASICS = "who|dates|reach"
"""Parts of a customer’s page that the front desk keeps."""

LINES: tuple[Line, ...] = (
    *_lines(P.OWN, "/sign-out|/look|/own(/.*)?|/handbook(/.*)?", "GET /"),
    *_lines(P.PEOPLE, "/people(/.*)?"),
    *_lines(P.LOG, "/log(/.*|\\.csv)?"),
    *_lines(P.SEND, f"POST /approvals/{ID}/decline"),
    *_lines(P.FIGURES, "GET /week", "GET /calendar", "GET /rhythm(/(line|top|cells|value|moves))?"),
    # results: what names customers or leaves the house is not among the figures
    *_lines(P.WRITE, "POST /results/.*"),
    *_lines(P.EXPORT, r"GET /results\.[^/]+"),
    *_lines(P.FIGURES, r"GET /results(/.*)?"),
    *_lines(P.CUSTOMERS, "GET /customers", f"GET /customers/{ID}", "GET /search"),
    *_lines(P.CUSTOMERS, f"GET /customers/{ID}/part/({BASICS})"),
    *_lines(
        P.SERVE,
        f"POST /customers/{ID}/part/({BASICS})",
        f"POST /customers/{ID}/notes",
        "/till",
        f"POST /staff-notes/{ID}/done",
    ),
    *_lines(P.WRITE, "POST /replies/answers"),
    *_lines(P.REPLIES, "/replies(/.*)?"),
    *_lines(P.DETAILS, f"POST /customers/{ID}/events", f"/customers/{ID}/part/.*", "/customers/views(/.*)?"),
    *_lines(P.ERASE, "POST /customers/many/erase", f"GET /customers/erased/{ID}"),
    *_lines(P.MANY, "/customers/many(/.*)?", f"/customers/{ID}/part-again/{ID}", "/duplicates(/.*)?"),
    *_lines(
        P.EXPORT,
        f"GET /customers/{ID}/everything.zip",
        "/export/.*",
        "GET /hand-off",
        f"GET /segments/{ID}/people",
        r"GET /moved/[^/]+",
    ),
    *_lines(P.IMPORT, "/imports(/.*)?", "/catalogue(/.*)?"),
    *_lines(P.SETTINGS, "/settings(/.*)?", "/other-programs(/.*)?"),
    *_lines(
        P.SEND,
        f"POST /campaigns/{ID}/(send|end|stop|failed|unsure|back)",
        f"GET /sequences/{ID}/publish",
        f"/sequences/{ID}/left-out",
        f"POST /sequences/{ID}/(publish|call-off|pause|resume|stop|bring|failed|unsure|archive|rank)",
        "POST /sequences/order",
        f"/enrolments/{ID}/move",
        "/held(/.*)?",
        "POST /switch",
        f"POST /calendar/{ID}/move",
        "/skipped(/.*)?",
    ),
    *_lines(
        P.WRITE,
        "GET /worth-doing",
        "/(asking|fields|guide|segments|moved|gallery|letterheads|messages|campaigns|sequences|offers)(/.*)?",
        # of the demo alone
        "/post-room(/.*)?",
    ),
    *_lines(P.OWN, "POST /clock"),
)


@lru_cache(maxsize=4_096)
def needed(method: str, path: str) -> Permission | None:
    """What an address needs; ``None`` where no line names it, which is open to nobody."""
    wanted = "GET" if method == "HEAD" else method
    for line in LINES:
        if line.methods in ("", wanted) and line.address.fullmatch(path):
            return line.needs
    return None


def may_go(role: str | None, path: str, method: str = "GET") -> bool:
    """Whether a role may ask for an address, which may carry a query."""
    permission = needed(method, re.split(r"[?#]", path, maxsplit=1)[0])
    return permission is not None and may(role, permission)


LINK = re.compile(r'<a\b(?P<attributes>[^>]*?\bhref="(?P<to>/[^"]*)"[^>]*)>(?P<within>.*?)</a>', re.DOTALL)
FORM = re.compile(r'<form\b(?P<attributes>[^>]*?\baction="(?P<to>/[^"]*)"[^>]*)>.*?</form>', re.DOTALL)
OPEN = re.compile(r"/(static|sign-up|preferences|offer|picture|view|sign-in|api)\b.*")


def without_dead_ends(role: str | None, page: str) -> str:
    """A page whose links to what the role does not include are words; of buttons and forms that write
    nothing is left.
    """

    def settled(link: re.Match[str]) -> str:
        if OPEN.match(link["to"]) or may_go(role, link["to"].replace("&amp;", "&")):
            return link[0]
        return "" if "btn " in link["attributes"] else link["within"]

    def left(form: re.Match[str]) -> str:
        method = "POST" if 'method="post"' in form["attributes"] else "GET"
        return form[0] if may_go(role, form["to"].replace("&amp;", "&"), method) else ""

    return FORM.sub(left, LINK.sub(settled, page))
