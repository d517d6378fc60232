"""JSON that came with a request, in an address or a form."""

import json
from typing import Any


def read_json(text: str) -> Any:
    """Raises ``json.JSONDecodeError``, also for what is nested too deep to be read."""
    try:
        return json.loads(text)
    except RecursionError as error:
        raise json.JSONDecodeError("nested too deep", text[:20], 0) from error


def read_object(text: str) -> dict[str, Any]:
    """The same, of an object only."""
    found = read_json(text)
    if not isinstance(found, dict):
        raise json.JSONDecodeError("not an object", text[:20], 0)
    return found
