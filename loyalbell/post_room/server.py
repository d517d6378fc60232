"""The post room's servers, on this machine only: mail by SMTP, texts and chat by HTTP."""

import asyncio
import random
import time
from collections.abc import Callable
from datetime import datetime
from threading import Thread

import uvicorn
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response

from loyalbell.channels.loopback import LOOPBACK, free_port
from loyalbell.post_room.store import PostRoomStore

NO_SUCH_BOX = "nobody@"
KEY = "post-room-key"
START_SECONDS = 10.0


def _one_of_100(store: PostRoomStore, mood: str) -> bool:
    return random.random() * 100 < store.mood(mood)  # noqa: S311 - a stand-in's mood


class _Receiver:
    def __init__(self, store: PostRoomStore, now: Callable[[], datetime]) -> None:
        self.store, self.now = store, now

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if address.startswith(NO_SUCH_BOX):
            return "550 5.1.1 No such mailbox"
        if _one_of_100(self.store, "refused_of_100"):
            return "451 4.7.1 Not now, try later"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        await asyncio.sleep(self.store.mood("slow_seconds"))
        if _one_of_100(self.store, "lost_of_100"):
            if server.transport is not None:
                server.transport.close()
            return "421 4.3.0 Lost"
        content = envelope.original_content or b""
        for recipient in envelope.rcpt_tos:
            self.store.keep(envelope.mail_from or "", recipient, content, self.now())
        return "250 2.0.0 Kept"


def networks(store: PostRoomStore, now: Callable[[], datetime]) -> FastAPI:
    """``/text`` and ``/chat``: ``POST messages`` takes one, ``GET messages/ID`` tells whether it was
    taken.
    """
    app = FastAPI(docs_url=None, redoc_url=None, openapi_url=None)

    def unknown(request: Request) -> Response | None:
        if request.headers.get("Authorization") != f"Bearer {KEY}":
            return JSONResponse({"problem": "the key is not known here"}, 401)
        return None

    @app.get("/{channel}/")
    async def there(channel: str, request: Request) -> Response:
        return unknown(request) or JSONResponse({"network": channel})

    @app.post("/{channel}/messages")
    async def take(channel: str, request: Request) -> Response:
        refused = unknown(request)
        if refused is not None or channel not in ("text", "chat"):
            return refused or JSONResponse({"problem": "no such network"}, 404)
        await asyncio.sleep(store.mood("slow_seconds"))
        body = await request.json()
        if _one_of_100(store, "refused_of_100"):
            return JSONResponse({"problem": "not now, try later"}, 429)
        if channel == "chat" and not body.get("opening") and str(body.get("to", "")).startswith("closed"):
            return JSONResponse({"problem": "no conversation is open"}, 403)
        if str(body.get("to", "")).endswith("0000"):
            return JSONResponse({"problem": "no such number"}, 410)
        new = store.keep_short(channel, str(body["id"]), str(body["to"]), body, now())
        return JSONResponse({"id": body["id"]}, 202 if new else 409)

    @app.get("/{channel}/messages/{message_id:path}")
    async def taken(channel: str, message_id: str, request: Request) -> Response:
        refused = unknown(request)
        if refused is not None:
            return refused
        return JSONResponse({"id": message_id}, 200 if store.has_short(message_id) else 404)

    return app


class PostRoom:
    """Starts and stops the servers; ``port`` 0 takes a free one."""

    def __init__(self, store: PostRoomStore, now: Callable[[], datetime], port: int = 0) -> None:
        self.store = store
        self._port, self.http_port = port or free_port(), free_port()
        self._controller = Controller(
            _Receiver(store, now), hostname=LOOPBACK, port=self._port, enable_SMTPUTF8=True
        )
        config = uvicorn.Config(
            networks(store, now), host=LOOPBACK, port=self.http_port, log_level="warning", access_log=False
        )
        self._http = uvicorn.Server(config)
        self._thread = Thread(target=self._http.run, name="post room networks", daemon=True)

    @property
    def address(self) -> str:
        """Where texts (``/text``) and chat (``/chat``) are handed over."""
        return f"http://{LOOPBACK}:{self.http_port}"

    def start(self) -> int:
        """Listens, and returns the port for mail."""
        self._controller.start()
        self._thread.start()
        end = time.monotonic() + START_SECONDS
        while not self._http.started and time.monotonic() < end:
            time.sleep(0.01)
        return self._port

    def stop(self) -> None:
        self._controller.stop()
        self._http.should_exit = True
        self._thread.join(timeout=10)
