"""The styles of one's own HTML: what is harmless is kept, media queries with it; and which words are hard to
read on their ground.

Parsed by tinycss2 (CSS Syntax Level 3). Nothing that loads something, moves out of its place or runs is kept.
"""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import tinycss2
import tinycss2.color4
from bs4 import BeautifulSoup
from bs4.element import NavigableString, Tag

from loyalbell.core.messages.contrast import LEAST, LEAST_LARGE, contrast
from loyalbell.core.messages.html.unclosed import without_unclosed

MOST_RULES = 2_000
LARGE, LARGE_BOLD = 24.0, 18.66
"""CSS pixels from which on words are large (WCAG 2.2: 18 points, or 14 points bold)."""
_SIMPLE = re.compile(r"^(?:(?P<tag>[a-z][a-z0-9]*)?(?P<mark>[.#][\w-]+)?)$", re.IGNORECASE)
_FORBIDDEN = re.compile(r"url\s*\(|expression\s*\(|@import|javascript:|</|\\", re.IGNORECASE)
_STYLE = re.compile(r"<style\b[^>]*>(.*?)(?:</style\s*>|$)", re.IGNORECASE | re.DOTALL)


def take_out_styles(page: str) -> tuple[str, list[str]]:
    """The page without its style elements, and what stood in them."""
    return _STYLE.sub("", page), [found[1] for found in _STYLE.finditer(page)]


def clean_styles(sheets: Iterable[str], allowed: frozenset[str]) -> tuple[str, list[str]]:
    """One sheet of the harmless rules with the ``allowed`` properties, and what was taken out, in words."""
    losses: list[str] = []
    rules = [
        rule
        for sheet in sheets
        for rule in _rules(
            tinycss2.parse_stylesheet(sheet, skip_comments=True, skip_whitespace=True), allowed, losses
        )
    ]
    if len(rules) > MOST_RULES:
        losses.append(f"styles after the first {MOST_RULES:,} rules")
    return "\n".join(rules[:MOST_RULES]), list(dict.fromkeys(losses))


def _rules(nodes: Iterable[Any], allowed: frozenset[str], losses: list[str]) -> Iterator[str]:
    for node in nodes:
        if node.type == "qualified-rule":
            selector = tinycss2.serialize(node.prelude).strip()
            kept = _declarations(node.content, allowed, losses)
            if kept and not _FORBIDDEN.search(selector) and "<" not in selector:
                yield f"{selector} {{ {kept} }}"
        elif node.type == "at-rule" and node.lower_at_keyword == "media" and node.content is not None:
            asked = tinycss2.serialize(node.prelude).strip()
            inner = tinycss2.parse_rule_list(node.content, skip_comments=True, skip_whitespace=True)
            held = "\n".join(_rules(inner, allowed, losses))
            if held and not _FORBIDDEN.search(asked) and "<" not in asked:
                yield f"@media {asked} {{ {held} }}"
        elif node.type == "at-rule":
            losses.append(f"@{node.lower_at_keyword} in the styles")


def _declarations(content: Any, allowed: frozenset[str], losses: list[str]) -> str:
    found = []
    for one in tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True):
        if one.type != "declaration":
            continue
        value = tinycss2.serialize(one.value).strip()
        if one.lower_name not in allowed or _FORBIDDEN.search(value) or "<" in value:
            losses.append(f"{one.lower_name} in the styles")
            continue
        found.append(f"{one.lower_name}: {value}{' !important' if one.important else ''};")
    return " ".join(found)


@dataclass(frozen=True)
class HardToRead:
    """Some words with the colours (``#rrggbb``) of their letters and ground, and their contrast."""

    words: str
    ink: str
    ground: str
    ratio: float


@dataclass(frozen=True)
class _Look:
    ink: str = "#000000"
    ground: str = "#ffffff"
    size: float = 16.0
    bold: bool = False


def hard_to_read(page: str, sheet: str = "") -> list[HardToRead]:
    """Words below the least contrast of WCAG 2.2 (success criterion 1.4.3), the worst first.

    Colours by style, bgcolor and font elements, and by rules of the sheet with one tag, class or id and
    outside media queries; what is inherited is followed. Pictures behind words are not seen.
    """
    rules = list(_simple_rules(sheet))
    found: dict[tuple[str, str], HardToRead] = {}
    _walk(BeautifulSoup(without_unclosed(page), "html.parser"), _Look(), rules, found)
    return sorted(found.values(), key=lambda one: one.ratio)


def _simple_rules(sheet: str) -> Iterator[tuple[re.Match[str], str]]:
    for node in tinycss2.parse_stylesheet(sheet, skip_comments=True, skip_whitespace=True):
        if node.type != "qualified-rule":
            continue
        for selector in tinycss2.serialize(node.prelude).split(","):
            simple = _SIMPLE.match(selector.strip())
            if simple and selector.strip():
                yield simple, tinycss2.serialize(node.content)


def _walk(
    element: Tag,
    look: _Look,
    rules: list[tuple[re.Match[str], str]],
    found: dict[tuple[str, str], HardToRead],
) -> None:
    for child in element.children:
        if isinstance(child, Tag):
            _walk(child, _look_of(child, look, rules), rules, found)
        elif isinstance(child, NavigableString) and child.strip():
            ratio = contrast(look.ink, look.ground)
            large = look.size >= LARGE or (look.bold and look.size >= LARGE_BOLD)
            if ratio < (LEAST_LARGE if large else LEAST):
                words = " ".join(child.split())[:40]
                found.setdefault((look.ink, look.ground), HardToRead(words, look.ink, look.ground, ratio))


SIZES = {"h1": 32.0, "h2": 24.0, "h3": 18.72, "small": 13.3}
BOLD = {"h1", "h2", "h3", "h4", "h5", "h6", "b", "strong", "th"}


def _look_of(element: Tag, look: _Look, rules: list[tuple[re.Match[str], str]]) -> _Look:
    name = element.name.lower()
    size, bold = SIZES.get(name, look.size), look.bold or name in BOLD
    ink, ground = look.ink, look.ground
    styles = [style for simple, style in rules if _fits(simple, element)]
    ground = _hex(str(element.get("bgcolor", ""))) or ground
    ink = _hex(str(element.get("color", ""))) or ink
    for style in [*styles, str(element.get("style", ""))]:
        for one in tinycss2.parse_blocks_contents(style, skip_comments=True, skip_whitespace=True):
            if one.type != "declaration":
                continue
            value = tinycss2.serialize(one.value).strip()
            if one.lower_name == "color":
                ink = _hex(value) or ink
            elif one.lower_name in ("background-color", "background"):
                ground = next(filter(None, map(_hex, [value, *value.split()])), ground)
            elif one.lower_name == "font-size":
                size = _pixels(value, size)
            elif one.lower_name == "font-weight":
                bold = value in ("bold", "bolder") or (value.isdecimal() and int(value) >= 700)
    return _Look(ink, ground, size, bold)


def _fits(simple: re.Match[str], element: Tag) -> bool:
    tag, mark = simple["tag"], simple["mark"]
    if tag and tag.lower() != element.name.lower():
        return False
    if not mark:
        return bool(tag)
    if mark[0] == "#":
        return bool(element.get("id") == mark[1:])
    return mark[1:] in (element.get_attribute_list("class") or [])


def _hex(value: str) -> str:
    """A colour as ``#rrggbb``; empty for what is none, or lets its ground through."""
    try:
        colour = tinycss2.color4.parse_color(value)
    except (ValueError, AttributeError):
        return ""
    if colour is None or colour == "currentcolor" or colour.alpha < 1:
        return ""
    try:
        red, green, blue = colour.to("srgb").coordinates
    except NotImplementedError:
        return ""
    return "#" + "".join(f"{round(min(max(one, 0.0), 1.0) * 255):02x}" for one in (red, green, blue))


def _pixels(value: str, now: float) -> float:
    found = re.fullmatch(r"([\d.]+)(px|pt|em|rem|%)", value)
    if not found:
        return now
    try:
        number = float(found[1])
    except ValueError:
        return now
    factor = {"px": 1.0, "pt": 4 / 3, "em": now, "rem": 16.0, "%": now / 100}[found[2]]
    return number * factor
