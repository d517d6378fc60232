"""The application that answers other programs; it is mounted at /api/v1."""

from collections.abc import Awaitable, Callable
from typing import Any

from fastapi import FastAPI, Request
from fastapi.openapi.utils import get_openapi
from fastapi.responses import Response

from loyalbell import __version__
from loyalbell.services.application import Application
from loyalbell.web.api import models
from loyalbell.web.api.problems import add_problems, problem
from loyalbell.web.api.routes import router
from loyalbell.web.rate_limits import RateLimit

MOST_BYTES = 8_000_000
ABOUT = (
    "Keeps customers and their history current from tills, booking systems and sites. Sign in with a token"
    " made in Settings. Every record is known again by its id, so that sending it twice does no harm."
)


def create_api(application: Application, rate: RateLimit | None = None) -> FastAPI:
    api = FastAPI(
        title="Loyal Bell", version=__version__, docs_url=None, redoc_url=None, openapi_url="/openapi.json"
    )
    api.state.application, api.state.rate = application, rate or RateLimit()
    api.include_router(router)
    api.middleware("http")(_not_too_large)
    add_problems(api)
    api.openapi = lambda: description(api)  # type: ignore[method-assign]
    return api


async def _not_too_large(request: Request, call_next: Callable[[Request], Awaitable[Response]]) -> Response:
    length = request.headers.get("Content-Length", "" if request.method in ("POST", "PUT", "PATCH") else "0")
    if not length.isdecimal() or int(length) > MOST_BYTES:
        return problem(413, f"Send at most {MOST_BYTES:,} bytes at once, and say how many in Content-Length.")
    return await call_next(request)


def description(api: FastAPI) -> dict[str, Any]:
    """The OpenAPI 3.1 description, with the token and the bodies that routes read themselves."""
    if api.openapi_schema:
        return api.openapi_schema
    found = get_openapi(title=api.title, version=api.version, description=ABOUT, routes=api.routes)
    found["servers"] = [{"url": "/api/v1"}]
    parts = found.setdefault("components", {})
    parts["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
    found["security"] = [{"token": []}]
    for model in (models.Event, models.CloudEvent):
        schema = model.model_json_schema(ref_template="#/components/schemas/{model}")
        parts["schemas"] |= schema.pop("$defs", {}) | {model.__name__: schema}
    for name in ("HTTPValidationError", "ValidationError"):
        parts["schemas"].pop(name, None)
    for path in found["paths"].values():
        for operation in path.values():
            for status, answer in operation["responses"].items():
                if status.startswith("4"):
                    answer["content"] = {
                        "application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}
                    }
    api.openapi_schema = found
    return found
