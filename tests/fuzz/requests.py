"""Requests made to confuse: every route, with what nobody would write into an address or a form."""

import inspect
import random
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from fastapi import FastAPI
from starlette.routing import Mount

import loyalbell.web

ODD = (
    "",
    " ",
    "0",
    "-1",
    "1",
    "2",
    "3",
    "²",
    "٣",
    "9" * 18,
    "9" * 25,
    str(2**63),
    "1e999",
    "NaN",
    "0.5",
    "é",
    "<script>x</script>",
    "'\"`",
    "a" * 5_000,
    "\x00",
    "\ud7ff",
    "\r\nX: y",
    "null",
    "true",
    "[]",
    "{}",
    '{"a":',
    "[[[[[[[[",
    '{"do": "x"}',
    '{"join": "all", "lines": [1]}',
    "2026-02-31",
    "2026-05-12",
    "99:99",
    "0001-01-01",
    "9999-12-31",
    "24:00",
    "../../etc",
    "{{ 1 }}",
    "{% for %}",
    "1,2,3",
    "1|2|3",
    "on",
    "email",
    "%00",
    "=1+1",
)
_NAME = re.compile(r'\bname="([a-z][a-z0-9_.-]{0,30})"')
_ASKED = re.compile(
    r'(?:text_of|number_of)\(\s*form,\s*"([a-z_.-]+)"|query_params\.get(?:list)?\("([a-z_-]+)"'
)
_PARAMETER = re.compile(r"\{(\w+)(?::(\w+))?\}")
OWN = 0.7
"""How often a field is one that the address knows."""
NOT_CALLED = {"/sign-out", "/clock"}


@dataclass(frozen=True)
class Odd:
    """One request; ``form`` is empty for a GET."""

    method: str
    path: str
    form: list[tuple[str, str]] = field(default_factory=list)


def names_asked_for() -> list[str]:
    """Every name that a page or a route knows a field by."""
    found: set[str] = set()
    root = Path(loyalbell.web.__file__).parent
    for file in root.rglob("*.html"):
        found |= set(_NAME.findall(file.read_text(encoding="utf-8")))
    for file in root.rglob("*.py"):
        for both in _ASKED.findall(file.read_text(encoding="utf-8")):
            found |= {one for one in both if one}
    return sorted(found - {"_csrf"})


def routes_of(app: FastAPI) -> list[tuple[str, str, tuple[str, ...]]]:
    """(method, path, names of its own) of all that is served, without what only hands out files."""
    found = set()
    for route in _flat(app.routes):
        for method in sorted(getattr(route, "methods", None) or ()):
            if method in ("GET", "POST", "PUT", "PATCH", "DELETE") and route.path not in NOT_CALLED:
                found.add((method, route.path, own_names(route.endpoint)))
    return sorted(found)


@cache
def own_names(endpoint: Callable[..., Any]) -> tuple[str, ...]:
    """What an address itself asks for: its parameters, and what its module and the forms beside it read."""
    file = Path(inspect.getfile(endpoint))
    asked = set(inspect.signature(endpoint).parameters) - {"context", "form", "request"}
    for one in {file, file.with_name("forms.py")}:
        if one.exists():
            for both in _ASKED.findall(one.read_text(encoding="utf-8")):
                asked |= {name for name in both if name}
    return tuple(sorted(asked))


def _flat(routes: Any) -> Iterator[Any]:
    for route in routes:
        inner = getattr(route, "original_router", None) or getattr(route, "routes", None)
        if isinstance(route, Mount):
            continue
        if inner is not None and not hasattr(route, "path"):
            yield from _flat(getattr(inner, "routes", inner))
        elif hasattr(route, "path"):
            yield route


def odd_requests(app: FastAPI, count: int, seed: int) -> Iterator[Odd]:
    """The same for a seed; every route comes in turn."""
    rng, names = random.Random(seed), names_asked_for()
    routes = routes_of(app)
    for at in range(count):
        method, path, own = routes[at % len(routes)]
        made = _PARAMETER.sub(lambda found: quote(_for_path(rng, found[2]), safe=""), path)
        fields = [
            (rng.choice(own if own and rng.random() < OWN else names), rng.choice(ODD))
            for _ in range(rng.randrange(8))
        ]
        if method == "GET":
            yield Odd(method, made + ("?" + _query(fields) if fields else ""))
        else:
            yield Odd(method, made, fields)


def _for_path(rng: random.Random, kind: str | None) -> str:
    if kind == "int" or rng.random() < 0.5:
        return rng.choice(("1", "2", "5", "1", "0", str(2**63), "9" * 25, "999999"))
    return (rng.choice(ODD) or "x")[:200]


def _query(fields: list[tuple[str, str]]) -> str:
    return urlencode(fields, errors="replace")
