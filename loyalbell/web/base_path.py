"""Serving under a path, such as ``https://shop.example/bell``: pages speak of ``/customers`` throughout, and
here, in one place, the path is put before what leaves and taken off what comes.
"""

import re
from collections.abc import Iterable
from urllib.parse import urlsplit, urlunsplit

from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

ADDRESSES = re.compile(
    rb"""(\s(?:href|src|action|formaction|poster|hx-(?:get|post|put|patch|delete|push-url))=")/(?!/)"""
)
"""Where a page's own addresses stand in HTML."""
OUT = ("location", "hx-redirect", "hx-location", "hx-push-url")
IN = (b"hx-current-url", b"referer")
ROOT = b"<html "
MOST_KEPT = 32 * 1024 * 1024


class BasePath:
    """ASGI: the application within knows nothing of the path."""

    def __init__(self, app: ASGIApp, base_path: str) -> None:
        self.app, self.base = app, base_path

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        await self.app(self._within(scope), receive, _Prefixed(self.base, send).send)

    def _within(self, scope: Scope) -> Scope:
        """As if asked for without the path; a proxy may have taken it off already."""
        return {
            **scope,
            "path": _without(scope["path"], self.base),
            "raw_path": _without(scope.get("raw_path", b"").decode("latin-1"), self.base).encode("latin-1"),
            "headers": [
                (name, self._header(value) if name in IN else value) for name, value in scope["headers"]
            ],
        }

    def _header(self, value: bytes) -> bytes:
        parts = urlsplit(value.decode("latin-1"))
        return urlunsplit(parts._replace(path=_without(parts.path, self.base))).encode("latin-1")


def _without(path: str, base: str) -> str:
    return path[len(base) :] or "/" if path == base or path.startswith(base + "/") else path


class _Prefixed:
    """One answer on its way out. Only HTML is gathered; everything else passes as it comes."""

    def __init__(self, base: str, send: Send) -> None:
        self.base, self._send = base, send
        self._start: Message | None = None
        self._body = bytearray()

    async def send(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = MutableHeaders(scope=message)
            self._put_before(headers)
            if headers.get("content-type", "").startswith("text/html"):
                self._start = message
                return
        elif message["type"] == "http.response.body" and self._start is not None:
            self._body += message.get("body", b"")
            if message.get("more_body") and len(self._body) < MOST_KEPT:
                return
            await self._send_page(message)
            return
        await self._send(message)

    async def _send_page(self, message: Message) -> None:
        assert self._start is not None
        page = self.page(bytes(self._body))
        MutableHeaders(scope=self._start)["content-length"] = str(len(page))
        await self._send(self._start)
        await self._send({**message, "body": page, "more_body": False})
        self._start = None

    def page(self, page: bytes) -> bytes:
        base = self.base.encode()
        page = ADDRESSES.sub(rb"\g<1>" + base + rb"/", page)
        return page.replace(ROOT, ROOT + b'data-base="' + base + b'" ', 1)

    def _put_before(self, headers: MutableHeaders) -> None:
        for name in OUT:
            value = headers.get(name)
            if value is not None and value.startswith("/") and not value.startswith("//"):
                headers[name] = self.base + value
        cookies = headers.getlist("set-cookie")
        if cookies:
            del headers["set-cookie"]
            for cookie in self._cookies(cookies):
                headers.append("set-cookie", cookie)

    def _cookies(self, cookies: Iterable[str]) -> list[str]:
        return [re.sub(r"(?i)(; path=)/(?=;|$)", rf"\g<1>{self.base}", cookie) for cookie in cookies]
