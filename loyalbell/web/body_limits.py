"""How much a request may carry, asked while it comes in and not after: nobody can fill the memory.

A form takes files only where its page has a field for them.
"""

import re
from dataclasses import dataclass

from starlette.types import ASGIApp, Message, Receive, Scope, Send

MEGABYTE = 1_000_000


@dataclass(frozen=True)
class Limit:
    """For addresses that match, without the path that the program stands under."""

    address: re.Pattern[str]
    bytes: int
    files: int = 0


def _limit(address: str, most: int, files: int = 0) -> Limit:
    return Limit(re.compile(address), most, files)


LIMITS = (
    _limit(r"/imports", 500 * MEGABYTE, 20),
    _limit(r"/catalogue/pictures", 250 * MEGABYTE, 200),
    _limit(r"/catalogue/\d+/(picture|care-sheet)", 12 * MEGABYTE, 1),
    _limit(r"/gallery/upload", 12 * MEGABYTE, 1),
    _limit(r"/messages/(attach|import)", 12 * MEGABYTE, 1),
    _limit(r"/sequences/bring-in", 4 * MEGABYTE, 1),
    _limit(r"/callbacks/.*", MEGABYTE // 10),
    # what anybody can reach without signing in
    _limit(
        r"/(sign-up|first-day|forgotten|(sign-in|join|confirm|preferences|keep|u|sender|l|o|offer|view)(/.*)?)",
        MEGABYTE // 5,
    ),
)
OTHERWISE = _limit(r".*", 8 * MEGABYTE)


class TooLarge(Exception):
    """A request carries more than its address takes."""


def limit_of(path: str) -> Limit:
    return next((limit for limit in LIMITS if limit.address.fullmatch(path)), OTHERWISE)


class BodyLimit:
    """Ends the reading of a request with ``TooLarge`` as soon as it carries more than its address takes."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path = scope["path"].removeprefix(scope.get("root_path", ""))
        most, seen = limit_of(path).bytes, 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > most:
                raise TooLarge(f"At most {most / MEGABYTE:,.1f} MB can be sent here at once.")
            return message

        await self.app(scope, counted, send)
