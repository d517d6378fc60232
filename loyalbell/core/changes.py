"""What an act changed, for the log: only what differs, before and after."""

from collections.abc import Mapping
from typing import Any

LONGEST = 300
HIDDEN = "(kept secret)"


def changes(
    before: Mapping[str, Any], after: Mapping[str, Any], secret: tuple[str, ...] = ()
) -> dict[str, Any]:
    """``{"before": {...}, "after": {...}}`` of the keys that differ; nothing where none does. Of ``secret``
    ones only that they were changed.
    """
    differ = [key for key in {**before, **after} if before.get(key) != after.get(key)]
    if not differ:
        return {}
    return {
        "before": {key: _said(before.get(key), key in secret) for key in differ},
        "after": {key: _said(after.get(key), key in secret) for key in differ},
    }


def _said(value: Any, is_secret: bool) -> Any:
    if is_secret:
        return HIDDEN if value else ""
    if isinstance(value, str | int | float | bool) or value is None:
        return value[:LONGEST] if isinstance(value, str) else value
    return str(value)[:LONGEST]
