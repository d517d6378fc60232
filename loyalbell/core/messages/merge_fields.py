"""Fields of a message, filled per person through Liquid, with limits and without guesses.

A field that the person lacks and for which no fallback is given is an error for
that person: the message is withheld, never sent with a gap.
"""

import html
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from io import StringIO
from typing import TextIO

from liquid import BoundTemplate, Environment, RenderContext
from liquid.exceptions import LiquidError, OutputStreamLimitError, UndefinedError
from liquid.undefined import StrictDefaultUndefined

from loyalbell.core.messages.filter_limits import MOST_OUTPUT, limit_filters

# a field that never ends is left where the next begins, so that reading stays linear
TOKEN = re.compile(r"\{\{(?:(?!\{\{|\}\}).)*\}\}|\{%(?:(?!\{%|%\}).)*%\}", re.DOTALL)
_LITERAL = re.compile(r"\"[^\"]*\"|'[^']*'")
_NAME = re.compile(r"^\{\{-?\s*([a-z_][a-z0-9_]*)")
_LOOPED = re.compile(r"\{%-?\s*for\s+(\w+)\s+in\b|\{%-?\s*(?:assign|capture)\s+(\w+)")


@dataclass(frozen=True)
class Field:
    """A fact that can be put into a message.

    ``fallback`` is offered when inserting it, ``group`` parts the picker.
    """

    name: str
    label: str
    fallback: str
    group: str = "The person"


PERSON, PAST, AHEAD, SHOP, LINKS = "The person", "What they did", "What is ahead", "The shop", "Links"
ORDER, VISIT = "The order at hand", "The visit at hand"
FIELDS = (
    Field("first_name", "first name", "there"),
    Field("last_name", "last name", "friend"),
    Field("companion_name", "companion’s name", "your companion"),
    Field("companion_kind", "kind of companion", "companion"),
    Field("city", "city", "your town"),
    Field("birthday", "birthday", "your birthday"),
    Field("last_visit_on", "day of the last visit", "a while ago", PAST),
    Field("days_since_visit", "days since the last visit", "many", PAST),
    Field("last_order_on", "day of the last order", "a while ago", PAST),
    Field("days_since_order", "days since the last order", "many", PAST),
    Field("last_item", "what they bought last", "your last purchase", PAST),
    Field("favourite_item", "what they buy most often", "your favourite", PAST),
    Field("order_count", "number of orders so far", "your", PAST),
    Field("appointment_on", "day of the next appointment", "soon", AHEAD),
    Field("appointment_at", "time of the next appointment", "the time we agreed", AHEAD),
    Field("appointment_for", "what the next appointment is for", "your appointment", AHEAD),
    Field("appointment_place", "where the next appointment is", "our place", AHEAD),
    Field("appointment_with", "who the next appointment is with", "us", AHEAD),
    Field("appointment_whom", "for whom the next appointment is", "you", AHEAD),
    Field("next_visit_on", "day they are expected next", "soon", AHEAD),
    Field("membership_plan", "membership", "your membership", AHEAD),
    Field("membership_term", "how long the membership runs", "its term", AHEAD),
    Field("membership_price", "price of the membership", "its price", AHEAD),
    Field("membership_since", "day the membership began", "a while ago", AHEAD),
    Field("renews_on", "day the membership renews", "soon", AHEAD),
    Field("order_number", "number of the order", "your order", ORDER),
    Field("order_lines", "what is in the order", "your things", ORDER),
    Field("order_item", "main item of the order", "your purchase", ORDER),
    Field("order_total", "total of the order", "the total on your receipt", ORDER),
    Field("order_discount", "discount on the order", "nothing", ORDER),
    Field("order_status", "status of the order", "on its way", ORDER),
    Field("order_on", "day of the order", "the other day", ORDER),
    Field("order_place", "where the order was made", "our shop", ORDER),
    Field("order_tracking", "tracking number of the parcel", "the number that comes separately", ORDER),
    Field("tracking_url", "link to follow the parcel", "", ORDER),
    Field("visit_on", "day of the visit", "the other day", VISIT),
    Field("visit_place", "where they came in", "our shop", VISIT),
    Field("visit_with", "who served them", "us", VISIT),
    Field("shop_name", "our shop’s name", "", SHOP),
    Field("shop_phone", "our phone number", "", SHOP),
    Field("shop_address", "our postal address", "", SHOP),
    Field("stop_words", "how to stop texts", "", SHOP),
    Field("booking_url", "link to booking", "", LINKS),
    Field("review_url", "link for a review", "", LINKS),
    Field("preferences_url", "link to their preferences", "", LINKS),
    Field("keep_url", "link “keep me on the list”", "", LINKS),
    Field("unsubscribe_url", "link to unsubscribe", "", LINKS),
    Field("browser_url", "link to read it in a browser", "", LINKS),
)
ABOUT_ORDER = frozenset(field.name for field in FIELDS if field.group == ORDER)
ABOUT_VISIT = frozenset(field.name for field in FIELDS if field.group == VISIT)
ABOUT_APPOINTMENT = frozenset(field.name for field in FIELDS if field.name.startswith("appointment_"))
ABOUT_MEMBERSHIP = frozenset(
    field.name for field in FIELDS if field.name.startswith(("membership_", "renews_"))
)
"""Fields of what a message is about (``services/delivery/composing/facts_at_hand.py``)."""
ALWAYS_KNOWN = frozenset(
    {
        "shop_name",
        "shop_address",
        "stop_words",
        "preferences_url",
        "keep_url",
        "unsubscribe_url",
        "browser_url",
    }
)
OWN = "own_"
"""Fields of the shop’s own are called ``own_3``, by their id."""
OF_THE_SHOP = frozenset({"shop_phone", "booking_url", "review_url"})


class FieldProblem(Exception):
    """A text that cannot be filled, said in words for the person who wrote it."""


class _Counted(StringIO):
    """Stops at a number of characters; the library's own limit turns every piece into bytes to count them."""

    def __init__(self, left: int) -> None:
        super().__init__()
        self.left = left

    def write(self, text: str) -> int:
        self.left -= len(text)
        if self.left < 0:
            raise OutputStreamLimitError("it grows too long", token=None)
        return super().write(text)


class _Context(RenderContext):
    def get_buffer(self, buf: TextIO | None = None) -> StringIO:
        return _Counted(buf.left if isinstance(buf, _Counted) else MOST_OUTPUT)


class _Template(BoundTemplate):
    context_class = _Context

    def _get_buffer(self) -> StringIO:
        return _Counted(MOST_OUTPUT)


class _Limited(Environment):
    block_nesting_limit = 20
    context_depth_limit = 20
    loop_iteration_limit = 10_000
    local_namespace_limit = MOST_OUTPUT

    def setup_tags_and_filters(self, *, extra: bool = False) -> None:
        super().setup_tags_and_filters(extra=extra)
        limit_filters(self)


class _Looping(_Limited):
    """For texts with loops of their own, whose output is counted as it grows."""

    template_class = _Template


_OWN_LOOP = re.compile(r"\{%-?\s*(?:for\s+\w+\s+in\s+(?!items_\d+\s*-?%\})|tablerow|capture)")
"""Loops that the author typed; those over the cards of items are ours, and short."""
_ENVIRONMENTS = {
    (kind, markup): kind(undefined=StrictDefaultUndefined, autoescape=markup)
    for kind in (_Limited, _Looping)
    for markup in (False, True)
}


@lru_cache(maxsize=512)
def template(text: str, markup: bool = False) -> BoundTemplate:
    """A Liquid template. With ``markup``, filled values are escaped for HTML. Raises ``FieldProblem``."""
    try:
        kind = _Looping if _OWN_LOOP.search(text) else _Limited
        return _ENVIRONMENTS[kind, markup].from_string(text)
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
    """Names that are inserted, except those that the text makes itself by a loop or an assignment."""
    own = {one for found in _LOOPED.findall(text) for one in found if one}
    return {found[1] for token in TOKEN.findall(text) if (found := _NAME.match(token))} - own


def label_of(name: str) -> str:
    return next((field.label for field in FIELDS if field.name == name), name.replace("_", " "))


def _say_missing(error: UndefinedError) -> str:
    name = str(error).split("'")[1] if "'" in str(error) else ""
    if name in {field.name for field in FIELDS} or name.startswith(OWN):
        return f"No {label_of(name)} on file, and no words to use instead."
    if name.startswith("offer_"):
        return "No code could be given of the offer in it."
    return f"There is no field called “{name}”."


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0]
