"""Filters of fields that cannot make a text grow without end: chained, they multiply what they are given."""

from collections.abc import Callable, Sized
from functools import wraps
from typing import Any

from liquid import Environment
from liquid.exceptions import FilterValueError

MOST_OUTPUT = 1_000_000
"""Characters that one text may grow to."""
MOST_NUMBER = 10**30
Filter = Callable[..., Any]


def limit_filters(environment: Environment) -> None:
    """Puts a bound around each filter of an environment."""
    for name, made in environment.filters.items():
        environment.filters[name] = _bounded(name, made)


def _bounded(name: str, made: Filter) -> Filter:
    # wraps keeps what the library has noted on the filter: whether it wants its context
    @wraps(made)
    def limited(left: Any, *given: Any, **more: Any) -> Any:
        if _grows_to(name, left, given) > MOST_OUTPUT:
            raise FilterValueError("it grows too long", token=None)
        result = made(left, *given, **more)
        if _size(result) > MOST_OUTPUT:
            raise FilterValueError("it grows too long", token=None)
        return result

    return limited


def _grows_to(name: str, left: Any, given: tuple[Any, ...]) -> int:
    """Before it is done, how long a filter that multiplies would make it."""
    if name == "replace" and len(given) > 1:
        text, part = str(left), str(given[0])
        return len(text) + len(str(given[1])) * (text.count(part) if part else len(text) + 1)
    if name == "join" and isinstance(left, list | tuple):
        between = len(str(given[0])) if given else 1
        return sum(len(str(one)) for one in left) + between * len(left)
    return 0


def _size(result: Any) -> int:
    if isinstance(result, bool):
        return 0
    if isinstance(result, int):
        return 0 if abs(result) < MOST_NUMBER else MOST_OUTPUT + 1
    return len(result) if isinstance(result, Sized) else 0
