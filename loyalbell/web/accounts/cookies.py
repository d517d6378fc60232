"""The cookie of a session, and who asks before somebody has signed in."""

import secrets

from fastapi import Request
from fastapi.responses import Response

from loyalbell.services.accounts import sessions
from loyalbell.services.accounts.sessions import STAYS, Visitor
from loyalbell.web.request import COOKIE, BadToken, RequestContext, application_of, check_token


def with_session(request: Request, response: Response, token: str | None) -> Response:
    if token:
        response.set_cookie(
            COOKIE,
            token,
            httponly=True,
            samesite="lax",
            max_age=int(STAYS.total_seconds()),
            secure=request.url.scheme == "https",
        )
    return response


def visitor_of(request: Request) -> tuple[str | None, Visitor]:
    """The browser's session; or, for someone not yet signed in, a guest with the token of its cookie."""
    kept = request.cookies.get(COOKIE)
    visitor = sessions.find_session(application_of(request), kept)
    if visitor is not None:
        return None, visitor
    token = kept or secrets.token_urlsafe(32)
    return token, sessions.guest(token)


async def token_holds(request: Request) -> Visitor:
    """Of a form that anybody may send. Raises ``BadToken``."""
    kept = request.cookies.get(COOKIE)
    if not kept:
        raise BadToken
    visitor = sessions.find_session(application_of(request), kept) or sessions.guest(kept)
    await check_token(request, visitor)
    return visitor


def outside_page(request: Request, visitor: Visitor) -> RequestContext:
    return RequestContext(request, application_of(request), visitor)


def browser_of(request: Request) -> str:
    return request.headers.get("User-Agent", "")
