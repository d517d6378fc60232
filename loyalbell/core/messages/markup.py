"""The few marks inside a text: ``**bold**``, ``*slanted*``, ``[words](address)`` and lines that begin with
``- ``.

Fields are kept aside while the marks are read, so that nothing a field holds is ever taken for a mark.
"""

import html
import re
from collections.abc import Callable

from loyalbell.core.messages.merge_fields import TOKEN, escape_around_fields

_LINK = re.compile(r"\[([^\[\]\n]+)\]\(([^()\s]+(?:\([^()\s]*\)[^()\s]*)*)\)")
_BOLD = re.compile(r"\*\*(?=\S)((?:(?!\*\*).)+)(?<=\S)\*\*")
_SLANTED = re.compile(r"(?<![\w*])\*(?=[^\s*])([^*\n]+?)(?<=[^\s*])\*(?![\w*])")
_KEPT = re.compile(r"LBFIELD(\d+)X")
PARAGRAPHS = re.compile(r"\n\s*\n")
Address = Callable[[str], str]


class Aside:
    """Takes Liquid out of a text before something else reads it, and puts it back after."""

    def __init__(self) -> None:
        self.tokens: list[str] = []

    def take(self, text: str) -> str:
        """The text escaped for HTML, its fields set aside."""
        return TOKEN.sub(self._keep, escape_around_fields(text.replace("LBFIELD", "LB FIELD")))

    def raw(self, liquid: str) -> str:
        """Liquid of our own, set aside as it is."""
        self.tokens.append(liquid)
        return f"LBFIELD{len(self.tokens) - 1}X"

    def _keep(self, found: re.Match[str]) -> str:
        return self.raw(found[0])

    def put_back(self, text: str) -> str:
        return _KEPT.sub(lambda found: self.tokens[int(found[1])], text)


def as_html(text: str, aside: Aside, address: Address) -> str:
    """One paragraph. ``address`` turns where a link leads into what stands in its ``href``."""

    def link(found: re.Match[str]) -> str:
        return f'<a href="{address(html.unescape(aside.put_back(found[2])))}">{found[1]}</a>'

    marked = _LINK.sub(link, aside.take(text))
    marked = _SLANTED.sub(r"<i>\1</i>", _BOLD.sub(r"<b>\1</b>", marked))
    return _lines(marked)


def _lines(marked: str) -> str:
    """Lines that begin with a dash become a list; others are parted by breaks."""
    pieces: list[str] = []
    items: list[str] = []
    for line in marked.split("\n"):
        if line.startswith("- "):
            items.append(f"<li>{line[2:]}</li>")
            continue
        if items:
            pieces.append(f"<ul>{''.join(items)}</ul>")
            items = []
        pieces.append(line)
    if items:
        pieces.append(f"<ul>{''.join(items)}</ul>")
    return "<br />".join(pieces).replace("<br /><ul>", "<ul>").replace("</ul><br />", "</ul>")


def as_plain(text: str, address: Address) -> str:
    """The same without marks; where a link leads stands behind its words."""
    aside: list[str] = []

    def keep(found: re.Match[str]) -> str:
        aside.append(found[0])
        return f"LBFIELD{len(aside) - 1}X"

    def back(text: str) -> str:
        return _KEPT.sub(lambda found: aside[int(found[1])], text)

    kept = TOKEN.sub(keep, text.replace("LBFIELD", "LB FIELD"))
    linked = _LINK.sub(lambda found: f"{found[1]}: {address(back(found[2]))}", kept)
    return back(_SLANTED.sub(r"\1", _BOLD.sub(r"\1", linked)))
