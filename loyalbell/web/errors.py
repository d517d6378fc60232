"""The pages for what went wrong: signed out, out of date, not here, unforeseen."""

from collections.abc import Awaitable, Callable, Sequence
from json import JSONDecodeError
from urllib.parse import urlsplit

import structlog
from fastapi import Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, PlainTextResponse, RedirectResponse, Response
from starlette.exceptions import HTTPException

from loyalbell.core.messages.content import ContentProblem
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.plan import PlanProblem
from loyalbell.services.messages.queries import MessageProblem
from loyalbell.services.references import InUse
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.storage.database import BookBusy, BookDamaged, DiskFull, NotOnFile
from loyalbell.web.addresses import address_of
from loyalbell.web.body_limits import TooLarge
from loyalbell.web.formatting import Formatter
from loyalbell.web.request import (
    BadToken,
    NotAllowed,
    NotFound,
    SignInFirst,
    TooManyFiles,
    application_of,
    render,
    sign_in_address,
)

Links = Sequence[tuple[str, str]]
log = structlog.get_logger()
RETRY_SECONDS = 5


def _plain_page(
    request: Request, title: str, words: str, status: int, links: Links = (), back: str = "/"
) -> Response:
    application = application_of(request)
    shop, now = application.shop(), application.clock.now()
    values = {
        "title": title,
        "words": words,
        "shop": shop,
        "now": now,
        "say": Formatter(shop, now),
        "links": links,
        "back": back,
    }
    return HTMLResponse(render("parts/error.html", values), status_code=status)


async def sign_in_first(request: Request, error: Exception) -> Response:
    where = sign_in_address(request)
    if request.headers.get("HX-Request"):
        return Response(status_code=204, headers={"HX-Redirect": where})
    return RedirectResponse(where, status_code=303)


async def bad_token(request: Request, error: Exception) -> Response:
    words = (
        "This page was open too long, or was not ours. Nothing was changed. Go back, load it again, and"
        " repeat."
    )
    return _plain_page(request, "This page is out of date", words, 403)


async def not_allowed(request: Request, error: Exception) -> Response:
    """What one's role does not include; whoever opens the start page is led to their own."""
    words = f"{error} " if str(error) else ""
    return _short_or_page(
        request,
        "That is not among your tasks",
        f"{words}Your role here does not include this. Nothing was changed. If you need it, ask the owner.",
        403,
    )


async def not_found(request: Request, error: Exception) -> Response:
    what = str(error) if isinstance(error, NotFound) else "Nothing is at this address."
    return _plain_page(
        request, "Not here", f"{what} It may have been deleted, or the address is mistyped.", 404
    )


async def in_use(request: Request, error: Exception) -> Response:
    """What is used is not deleted: says what uses it, each a link to its page."""
    assert isinstance(error, InUse)
    links = [(f"{use.kind} “{use.name}”", address_of(use)) for use in error.uses]
    if request.headers.get("HX-Request"):
        words = f"{error.called} is in use, so it stays. Take it out here first:"
        return HTMLResponse(render("parts/problem.html", {"problem": words, "links": links}))
    words = (
        "It was not deleted, since these use it. Take it out of them first; what a campaign has sent keeps"
        " what it was sent with."
    )
    back = "/" + urlsplit(request.headers.get("Referer", "")).path.lstrip("/")
    return _plain_page(request, f"{error.called} is in use", words, 409, links, back)


async def bad_address(request: Request, error: Exception) -> Response:
    return _plain_page(request, "Not here", "This address is not written as one of ours.", 404)


async def too_many_files(request: Request, error: Exception) -> Response:
    return _plain_page(request, "Too many files", str(error), 413)


async def too_large(request: Request, error: Exception) -> Response:
    words = f"{error} Nothing was kept."
    answer = _short_or_page(request, "Too much at once", words, 413)
    answer.headers["Connection"] = "close"
    return answer


async def http_error(request: Request, error: Exception) -> Response:
    status = error.status_code if isinstance(error, HTTPException) else 500
    if status == 404:
        return await not_found(
            request, error if isinstance(error, NotFound) else NotFound("Nothing is at this address.")
        )
    return _plain_page(request, "That did not work", "This address does not take that request.", status)


async def busy(request: Request, error: Exception) -> Response:
    """Another writes for long (a large file is brought in): nothing is broken, so it says when to try."""
    words = "Loyal Bell is busy writing something large. Nothing was changed; try again in a few seconds."
    answer = _short_or_page(request, "One moment", words, 503)
    answer.headers["Retry-After"] = str(RETRY_SECONDS)
    return answer


async def no_room(request: Request, error: Exception) -> Response:
    words = (
        "The disk with your data is full, so nothing can be saved and nothing is sent. Make room on it, then"
        " try again. Nothing was changed."
    )
    return _short_or_page(request, "The disk is full", words, 507)


async def damaged(request: Request, error: Exception) -> Response:
    log.error("the book is damaged", path=request.url.path, exc_info=error)
    words = (
        "A part of the book cannot be read; its file is damaged. Nothing was changed. Stop Loyal Bell, check"
        " the disk, and restore the newest backup with “loyalbell restore”."
    )
    return _short_or_page(request, "The book is damaged", words, 500)


def _short_or_page(request: Request, title: str, words: str, status: int) -> Response:
    """The page needs the book for its head; where that cannot be read either, the words alone."""
    if request.headers.get("HX-Request"):
        return PlainTextResponse(words, status_code=status)
    try:
        return _plain_page(request, title, words, status)
    except Exception:
        return PlainTextResponse(words, status_code=status)


async def unforeseen(request: Request, error: Exception) -> Response:
    log.error("a page failed", path=request.url.path, exc_info=error)
    if request.headers.get("HX-Request"):
        return PlainTextResponse("Something unforeseen went wrong. Nothing was changed.", status_code=500)
    words = "Something unforeseen went wrong and was written to the log. Nothing was changed."
    return _plain_page(request, "That did not work", words, 500)


async def not_found_row(request: Request, error: Exception) -> Response:
    return _plain_page(
        request, "Not here", "What this address names is not on file. It may have been deleted.", 404
    )


async def not_readable(request: Request, error: Exception) -> Response:
    """A form or an address that no page of ours makes."""
    words = "What was sent here cannot be read. Nothing was changed. Load the page again, and repeat."
    return _short_or_page(request, "That cannot be read", words, 422)


async def said_why(request: Request, error: Exception) -> Response:
    """What cannot be done now, in the words of what refuses it."""
    return _short_or_page(request, "That cannot be done", f"{error} Nothing was changed.", 422)


async def too_large_a_number(request: Request, error: Exception) -> Response:
    """Beyond 2^63 there is no number of a row."""
    return await not_found_row(request, error)


Handler = Callable[[Request, Exception], Awaitable[Response]]
HANDLERS: tuple[tuple[type[Exception], Handler], ...] = (
    (SignInFirst, sign_in_first),
    (NotAllowed, not_allowed),
    (BadToken, bad_token),
    (TooManyFiles, too_many_files),
    (TooLarge, too_large),
    (NotFound, not_found),
    (NotOnFile, not_found_row),
    (InUse, in_use),
    (JSONDecodeError, not_readable),
    (PlanProblem, not_readable),
    (RuleProblem, not_readable),
    (ContentProblem, not_readable),
    (SequenceProblem, said_why),
    (MessageProblem, said_why),
    (FieldProblem, said_why),
    (OverflowError, too_large_a_number),
    (BookBusy, busy),
    (DiskFull, no_room),
    (BookDamaged, damaged),
    (RequestValidationError, bad_address),
    (HTTPException, http_error),
    (Exception, unforeseen),
)
