"""Fields of a message, filled per person through Liquid, with limits and without guesses.

A field that the person lacks and for which no fallback is given is an error for
that person: the message is withheld, never sent with a gap.
"""

import html
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from liquid import BoundTemplate, Environment
from liquid.exceptions import LiquidError, UndefinedError
from liquid.undefined import StrictDefaultUndefined

TOKEN = re.compile(r"\{\{.*?\}\}|\{%.*?%\}", re.DOTALL)
_LITERAL = re.compile(r"\"[^\"]*\"|'[^']*'")
_NAME = re.compile(r"^\{\{-?\s*([a-z_][a-z0-9_]*)")


@dataclass(frozen=True)
class Field:
    """A fact that can be put into a message. ``fallback`` is offered when inserting it."""

    name: str
    label: str
    fallback: str


FIELDS = (
    Field("first_name", "first name", "there"),
    Field("last_name", "last name", "friend"),
    Field("last_order_on", "day of the last order", "a while ago"),
    Field("days_since_order", "days since the last order", "many"),
    Field("companion_name", "companion’s name", "your companion"),
    Field("shop_name", "our shop’s name", ""),
)
ALWAYS_KNOWN = frozenset({"shop_name"})


class FieldProblem(Exception):
    """A text that cannot be filled, said in words for the person who wrote it."""


class _Limited(Environment):
    block_nesting_limit = 20
    context_depth_limit = 20
    loop_iteration_limit = 10_000
    output_stream_limit = 1_000_000


_PLAIN = _Limited(undefined=StrictDefaultUndefined, autoescape=False)
_HTML = _Limited(undefined=StrictDefaultUndefined, autoescape=True)


@lru_cache(maxsize=512)
def template(text: str, markup: bool = False) -> BoundTemplate:
    """A Liquid template. With ``markup``, filled values are escaped for HTML. Raises ``FieldProblem``."""
    try:
        return (_HTML if markup else _PLAIN).from_string(text)
    except LiquidError as error:
        raise FieldProblem(f"A field is not closed or not understood: {_first_line(error)}.") from error


def fill(text: str, facts: Mapping[str, object], markup: bool = False) -> str:
    """``text`` with its fields filled from ``facts``. Raises ``FieldProblem``."""
    try:
        return template(text, markup).render(**facts)
    except UndefinedError as error:
        raise FieldProblem(_say_missing(error)) from error
    except LiquidError as error:
        raise FieldProblem(f"A field cannot be filled: {_first_line(error)}.") from error


def escape_around_fields(text: str) -> str:
    """``text`` escaped for HTML, its Liquid left as Liquid with its quoted words escaped."""
    return _by_token(text, html.escape, _escape_literals)


def _escape_literals(token: str) -> str:
    if token.startswith("{%"):
        return token
    return _LITERAL.sub(lambda found: html.escape(found[0], quote=False), token)


def _by_token(text: str, outside: object, inside: object) -> str:
    assert callable(outside) and callable(inside)
    pieces, end = [], 0
    for found in TOKEN.finditer(text):
        pieces += [outside(text[end : found.start()]), inside(found[0])]
        end = found.end()
    return "".join([*pieces, outside(text[end:])])


def fields_without_fallback(text: str) -> set[str]:
    """Names of the fields that ``text`` inserts with nothing to say when they are missing."""
    names = set()
    for token in TOKEN.findall(text):
        found = _NAME.match(token)
        if found and "default:" not in token and found[1] not in ALWAYS_KNOWN:
            names.add(found[1])
    return names


def fields_used(text: str) -> set[str]:
    return {found[1] for token in TOKEN.findall(text) if (found := _NAME.match(token))}


def label_of(name: str) -> str:
    return next((field.label for field in FIELDS if field.name == name), name.replace("_", " "))


def _say_missing(error: UndefinedError) -> str:
    name = str(error).split("'")[1] if "'" in str(error) else ""
    if name in {field.name for field in FIELDS}:
        return f"No {label_of(name)} on file, and no words to use instead."
    return f"There is no field called “{name}”."


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0]
