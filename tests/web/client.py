"""A client that reads pages as people do: where a line breaks in the source says nothing."""

import re
from typing import Any

from fastapi.testclient import TestClient
from httpx import Response

WITHIN = re.compile(r"\s+")


class PageClient(TestClient):
    """Every run of whitespace in an HTML page is one space, and none stands before the end of an element."""

    def request(self, *args: Any, **more: Any) -> Response:  # type: ignore[override]
        response = super().request(*args, **more)
        if response.headers.get("content-type", "").startswith("text/html"):
            response._text = WITHIN.sub(" ", response.text).replace(" </", "</")
        return response
