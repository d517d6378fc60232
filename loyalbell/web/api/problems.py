"""What went wrong, said to a program as RFC 9457 wants it."""

from collections.abc import Mapping, Sequence
from http import HTTPStatus
from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from loyalbell.storage.database import BookBusy, DiskFull

MEDIA = "application/problem+json"
log = structlog.get_logger()


class ApiProblem(Exception):
    """A request that is not carried out; ``errors`` say where in it."""

    def __init__(
        self,
        status: int,
        detail: str,
        headers: Mapping[str, str] | None = None,
        errors: Sequence[Mapping[str, str]] = (),
    ) -> None:
        super().__init__(detail)
        self.status, self.detail, self.headers, self.errors = status, detail, headers, errors


def problem(
    status: int,
    detail: str,
    headers: Mapping[str, str] | None = None,
    errors: Sequence[Mapping[str, str]] = (),
) -> JSONResponse:
    body: dict[str, Any] = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
    }
    if errors:
        body["errors"] = [dict(error) for error in errors]
    return JSONResponse(body, status, dict(headers or {}), media_type=MEDIA)


def fields_of(errors: Sequence[Any], before: tuple[str, ...] = ()) -> list[dict[str, str]]:
    """JSON pointers (RFC 6901) and words for the errors of a model."""
    found = []
    for error in errors[:50]:
        place = [str(part) for part in error["loc"] if part != "body"]
        pointer = "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in (*before, *place))
        found.append({"pointer": _plain(pointer), "detail": _plain(str(error["msg"]))})
    return found


def _plain(text: str) -> str:
    return text.encode("utf-8", "replace").decode()


def add_problems(app: FastAPI) -> None:
    async def own(request: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, ApiProblem)
        return problem(error.status, error.detail, error.headers, error.errors)

    async def invalid(request: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, RequestValidationError)
        if any(one["type"] == "json_invalid" for one in error.errors()):
            return problem(400, "The body is not JSON.")
        return problem(422, "Something in the request is not as described.", errors=fields_of(error.errors()))

    async def http(request: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, HTTPException)
        words = {
            404: "Nothing is at this address.",
            405: "This address does not take that method.",
            400: "The body cannot be read.",
        }
        return problem(error.status_code, words.get(error.status_code, str(error.detail)), error.headers)

    async def busy(request: Request, error: Exception) -> JSONResponse:
        words = "The book is being written to. Nothing was changed; try again in a few seconds."
        return problem(503, words, {"Retry-After": "5"})

    async def no_room(request: Request, error: Exception) -> JSONResponse:
        return problem(507, "The disk is full. Nothing was changed.")

    async def unforeseen(request: Request, error: Exception) -> JSONResponse:
        log.error("a request of a program failed", path=request.url.path, exc_info=error)
        return problem(500, "Something unforeseen went wrong. Nothing was written.")

    app.add_exception_handler(ApiProblem, own)
    app.add_exception_handler(RequestValidationError, invalid)
    app.add_exception_handler(HTTPException, http)
    app.add_exception_handler(BookBusy, busy)
    app.add_exception_handler(DiskFull, no_room)
    app.add_exception_handler(Exception, unforeseen)
