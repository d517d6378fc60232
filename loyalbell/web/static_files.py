"""Styles, scripts and fonts: under a name that changes with their content, so that a browser may keep them
for good and still never shows old ones.
"""

import hashlib
from pathlib import Path

from fastapi.staticfiles import StaticFiles
from jinja2 import Environment
from jinja2.ext import Extension
from starlette.responses import Response
from starlette.types import Scope

STATIC = Path(__file__).parent / "static"
FOR_GOOD = "public, max-age=31536000, immutable"
LENGTH = 12


def content_hash(folder: Path) -> str:
    """Of all files together: those that a style names lie beside it, under the same name."""
    digest = hashlib.sha256()
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        digest.update(str(path.relative_to(folder)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:LENGTH]


VERSION = content_hash(STATIC)


class VersionedFiles(StaticFiles):
    """``VERSION/name`` is kept for good by browsers; a bare name is asked for again each time."""

    def __init__(self) -> None:
        super().__init__(directory=STATIC)

    async def get_response(self, path: str, scope: Scope) -> Response:
        is_ours = path.startswith(VERSION + "/")
        response = await super().get_response(path.removeprefix(VERSION + "/"), scope)
        response.headers["Cache-Control"] = FOR_GOOD if is_ours else "no-cache"
        return response


class VersionedAddresses(Extension):
    """Writes the version into the addresses of a template as it is read."""

    def __init__(self, environment: Environment) -> None:
        super().__init__(environment)

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        return source.replace('="/static/', f'="/static/{VERSION}/')
