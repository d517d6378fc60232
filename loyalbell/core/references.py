"""What a plan, a rule, a letter or an offer leans on: the things that must not be deleted while it does.

Documents name other things by the name of the field that holds their number, the same in every model, and by
tokens in their texts (``{{ field_3 }}``, ``{{ offer_2.code }}``). A new field that names something needs a
line in ``BY_FIELD``; ``tests/core/test_references.py`` fails for one that looks like a number of something
and has none.
"""

import re
from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from pydantic import BaseModel

from loyalbell.core.messages.merge_fields import fields_used


class Kind(StrEnum):
    """What can be leaned on."""

    SEGMENT = "segment"
    MESSAGE = "message"
    OFFER = "offer"
    CUSTOM_FIELD = "custom field"
    YEARLY_DATE = "yearly date"
    PICTURE = "picture"
    LETTERHEAD = "letterhead"
    SEQUENCE = "sequence"
    TAG = "tag"
    ITEM = "item"
    DEPARTMENT = "department"
    LOCATION = "location"
    SAVED_BLOCK = "saved block"
    ATTACHMENT = "attachment"
    OPENING = "opening message"
    HAND_OFF_LIST = "hand-off list"


class Reference(NamedTuple):
    """``key`` is the number of what is leaned on, or its name where it has no number."""

    kind: Kind
    key: str


BY_FIELD = {
    "segment": Kind.SEGMENT,
    "exclude": Kind.SEGMENT,
    "message": Kind.MESSAGE,
    "offer": Kind.OFFER,
    "field": Kind.CUSTOM_FIELD,
    "picture": Kind.PICTURE,
    "letterhead": Kind.LETTERHEAD,
    "sequence": Kind.SEQUENCE,
    "tag": Kind.TAG,
    "item": Kind.ITEM,
    "items": Kind.ITEM,
    "department": Kind.DEPARTMENT,
    "departments": Kind.DEPARTMENT,
    "location": Kind.LOCATION,
    "saved": Kind.SAVED_BLOCK,
    "attachments": Kind.ATTACHMENT,
    "opening": Kind.OPENING,
}
NO_YEARLY_DATES = {"renewal", "appointment"}
"""Dates that a plan may wait for and that are no yearly dates of a person."""
_NUMBERED = re.compile(r"(field|offer)_(\d+)(?:_\w+)?")


def references_of(document: BaseModel) -> frozenset[Reference]:
    """Everything that a document names, however deep."""
    return frozenset(_walk(document))


def _walk(document: BaseModel) -> Iterator[Reference]:
    for name in type(document).model_fields:
        value = getattr(document, name)
        if name in BY_FIELD:
            for number in value if isinstance(value, (tuple, list)) else (value,):
                if isinstance(number, int) and not isinstance(number, bool):
                    yield Reference(BY_FIELD[name], str(number))
        if name == "which" and isinstance(value, str) and value not in NO_YEARLY_DATES:
            yield Reference(Kind.YEARLY_DATE, value)
        if name == "list" and isinstance(value, str) and value:
            yield Reference(Kind.HAND_OFF_LIST, value)
        yield from _within(value)


def _within(value: object) -> Iterator[Reference]:
    if isinstance(value, BaseModel):
        yield from _walk(value)
    elif isinstance(value, (tuple, list)):
        for part in value:
            yield from _within(part)
    elif isinstance(value, str) and "{" in value:
        yield from _tokens(value)


def _tokens(text: str) -> Iterator[Reference]:
    for name in fields_used(text):
        numbered = _NUMBERED.fullmatch(name)
        if numbered:
            kind = Kind.CUSTOM_FIELD if numbered[1] == "field" else Kind.OFFER
            yield Reference(kind, numbered[2])
        elif name == "birthday":
            yield Reference(Kind.YEARLY_DATE, "birthday")
