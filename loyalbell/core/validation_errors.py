"""What a checked value lacks, in words for who typed it."""

from collections.abc import Mapping
from typing import Any

_WORDS = {
    "int_parsing": "write a whole number",
    "int_type": "write a whole number",
    "float_parsing": "write a number",
    "date_from_datetime_parsing": "write a day such as 2026-05-12",
    "date_parsing": "write a day such as 2026-05-12",
    "literal_error": "choose one of those offered",
    "missing": "is missing",
    "tuple_type": "must be a list",
    "list_type": "must be a list",
    "dict_type": "must be a JSON object",
    "model_type": "must be a JSON object",
    "string_too_long": "is too long",
    "extra_forbidden": "is not known here",
}


def say_error(error: Mapping[str, Any]) -> str:
    """``percent: write a whole number``, from one entry of pydantic's ``errors()``."""
    name = str(error["loc"][-1]).replace("_", " ") if error["loc"] else ""
    message = str(error["msg"]).removeprefix("Value error, ")
    words = _WORDS.get(str(error["type"]), message[:1].lower() + message[1:])
    return f"{name}: {words}" if name else words
