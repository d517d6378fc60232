"""The guide inside the application."""

import re
from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse, Response
from markupsafe import Markup

from loyalbell.web.handbook.reading import INDEX, PICTURES, contents, page_of
from loyalbell.web.request import NotFound, RequestContext, SignedIn

router = APIRouter()
_PICTURE = re.compile(r"^[a-z][a-z-]{0,40}\.png$")


@router.get("/handbook")
def index(context: RequestContext = SignedIn) -> Response:
    return _page(context, INDEX)


@router.get("/handbook/{name}")
def page(name: str, context: RequestContext = SignedIn) -> Response:
    return _page(context, name)


def _page(context: RequestContext, name: str) -> Response:
    found = page_of(name)
    if found is None:
        raise NotFound("There is no such page in the guide.")
    title, body = found
    # it was made from our own files, with any HTML in them escaped
    values: dict[str, Any] = {"title": title, "body": Markup(body)}  # noqa: S704
    values |= {"name": name, "contents": contents()}
    return context.page("handbook/page.html", "", **values)


@router.get("/handbook/pictures/{name}")
def picture(name: str, context: RequestContext = SignedIn) -> Response:
    if not _PICTURE.match(name) or not (PICTURES / name).is_file():
        raise NotFound("There is no such picture in the guide.")
    return FileResponse(PICTURES / name, media_type="image/png", headers={"Cache-Control": "max-age=3600"})
