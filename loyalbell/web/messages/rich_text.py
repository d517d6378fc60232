"""Texts of a message as the editor shows them: fields as chips, marks as bold, slanted and links."""

import re
from dataclasses import dataclass

from markupsafe import Markup, escape

from loyalbell.core.messages.merge_fields import FIELDS, OWN, label_of

_SIMPLE = re.compile(r"\{\{\s*([a-z_][a-z0-9_]*(?:\.[a-z]+)?)\s*(?:\|\s*default:\s*\"([^\"]*)\"\s*)?\}\}")
_KNOWN = {field.name for field in FIELDS}
OFFER_PARTS = {"code": "code", "terms": "terms", "until": "last day", "url": "page", "name": "benefit"}
_MARKS = (
    (re.compile(r"\[([^\[\]\n]+)\]\(([^()\s]+(?:\([^()\s]*\)[^()\s]*)*)\)"), r'<a data-href="\2">\1</a>'),
    (re.compile(r"\*\*(?=\S)((?:(?!\*\*).)+)(?<=\S)\*\*"), r"<b>\1</b>"),
    (re.compile(r"(?<![\w*])\*(?=[^\s*])([^*\n]+?)(?<=[^\s*])\*(?![\w*])"), r"<i>\1</i>"),
)
_HELD = re.compile(r"LBHELD(\d+)X")


@dataclass(frozen=True)
class Piece:
    """A stretch of text, or a field with its fallback (``None`` where it has none)."""

    text: str
    field: str = ""
    fallback: str | None = None


@dataclass(frozen=True)
class Labels:
    """What fields of the shop’s own and offers are called, by id."""

    own: dict[int, str]
    offers: dict[int, str]

    def of(self, name: str) -> str | None:
        """``None`` for a name that the picker cannot make."""
        if name in _KNOWN:
            return label_of(name)
        if name.startswith(OWN) and name.removeprefix(OWN).isdecimal():
            return self.own.get(int(name.removeprefix(OWN)))
        offer, _, part = name.partition(".")
        number = offer.removeprefix("offer_")
        if part in OFFER_PARTS and number.isdecimal() and int(number) in self.offers:
            return f"{OFFER_PARTS[part]} of {self.offers[int(number)]}"
        return None


NO_LABELS = Labels({}, {})


def as_pieces(text: str, labels: Labels = NO_LABELS) -> list[Piece]:
    """Fields the picker can make become chips; any other Liquid stays as it is typed."""
    pieces, end = [], 0
    for found in _SIMPLE.finditer(text):
        label = labels.of(found[1])
        if label is None:
            continue
        if found.start() > end:
            pieces.append(Piece(text[end : found.start()]))
        pieces.append(Piece(label, found[1], found[2]))
        end = found.end()
    if end < len(text):
        pieces.append(Piece(text[end:]))
    return pieces


def _chip(piece: Piece) -> Markup:
    fallback = Markup(' data-fallback="{}"').format(piece.fallback) if piece.fallback is not None else ""
    other = Markup('<span class="else"> | {}</span>').format(piece.fallback) if piece.fallback else ""
    return Markup('<span class="chip" contenteditable="false" data-field="{}"{}>{}{}</span>').format(
        piece.field, fallback, piece.text, other
    )


def as_chips(text: str, labels: Labels = NO_LABELS) -> Markup:
    """The text with chips, without marks."""
    pieces = as_pieces(text, labels)
    return Markup("").join(_chip(piece) if piece.field else escape(piece.text) for piece in pieces)


def as_rich(text: str, labels: Labels = NO_LABELS) -> Markup:
    """The text with chips and marks, as the editor writes it; each line in the same place."""
    held: list[Markup] = []

    def hold(piece: Piece) -> str:
        held.append(_chip(piece))
        return f"LBHELD{len(held) - 1}X"

    flat = "".join(hold(piece) if piece.field else piece.text for piece in as_pieces(text, labels))
    marked = str(escape(flat))
    for pattern, into in _MARKS:
        marked = pattern.sub(into, marked)
    marked = re.sub(
        r'data-href="([^"]*)"', lambda found: f'data-href="{_liquid_again(found[1], held)}"', marked
    )
    marked = _HELD.sub(lambda found: str(held[int(found[1])]), marked)
    return Markup(marked.replace("\n", "<br>"))  # noqa: S704 - escaped before the marks were put in


def _liquid_again(address: str, held: list[Markup]) -> str:
    """A field in an address stays written out."""

    def back(found: re.Match[str]) -> str:
        name = re.search(r'data-field="([^"]*)"', str(held[int(found[1])]))
        return "{{ " + name[1] + " }}" if name else ""

    return _HELD.sub(back, address)


def plain(text: str, labels: Labels = NO_LABELS) -> str:
    """For lists: fields as their fallback or their name."""
    return "".join((one.fallback or one.text) if one.field else one.text for one in as_pieces(text, labels))
