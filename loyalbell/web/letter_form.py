"""Texts with fields, cut into pieces for the letter editor's chips."""

import re
from dataclasses import dataclass

from loyalbell.core.messages.fields import FIELDS, label_of

_SIMPLE = re.compile(r"\{\{\s*([a-z_]+)\s*(?:\|\s*default:\s*\"([^\"]*)\"\s*)?\}\}")
_KNOWN = {field.name for field in FIELDS}


@dataclass(frozen=True)
class Piece:
    """A stretch of text, or a field with its fallback (``None`` where it has none)."""

    text: str
    field: str = ""
    fallback: str | None = None


def as_pieces(text: str) -> list[Piece]:
    """Fields the picker can make become chips; any other Liquid stays as it is typed."""
    pieces, end = [], 0
    for found in _SIMPLE.finditer(text):
        if found[1] not in _KNOWN:
            continue
        if found.start() > end:
            pieces.append(Piece(text[end : found.start()]))
        pieces.append(Piece(label_of(found[1]), found[1], found[2]))
        end = found.end()
    if end < len(text):
        pieces.append(Piece(text[end:]))
    return pieces
