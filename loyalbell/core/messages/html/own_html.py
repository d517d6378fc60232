"""HTML of one's own in a mail: only what is harmless is kept, what was taken away is listed, links are
followed.
"""

import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from html.parser import HTMLParser

import nh3

from loyalbell.core.messages.html.own_styles import clean_styles, take_out_styles
from loyalbell.core.messages.html.unclosed import without_unclosed
from loyalbell.core.messages.merge_fields import TOKEN

TAGS = {
    "a",
    "abbr",
    "b",
    "blockquote",
    "br",
    "center",
    "code",
    "div",
    "em",
    "font",
    "h1",
    "h2",
    "h3",
    "h4",
    "h5",
    "h6",
    "hr",
    "i",
    "img",
    "li",
    "ol",
    "p",
    "pre",
    "s",
    "small",
    "span",
    "strong",
    "sub",
    "sup",
    "table",
    "tbody",
    "td",
    "tfoot",
    "th",
    "thead",
    "tr",
    "u",
    "ul",
}
_ANY = {
    "align",
    "bgcolor",
    "border",
    "cellpadding",
    "cellspacing",
    "class",
    "color",
    "colspan",
    "dir",
    "height",
    "id",
    "lang",
    "role",
    "rowspan",
    "style",
    "title",
    "valign",
    "width",
}
ATTRIBUTES = {"*": _ANY, "a": {"href", "name"}, "img": {"src", "alt"}, "font": {"face", "size"}}
SCHEMES = {"http", "https", "mailto", "tel"}
STYLES = {
    "background",
    "background-color",
    "border",
    "border-bottom",
    "border-collapse",
    "border-color",
    "border-left",
    "border-radius",
    "border-right",
    "border-top",
    "color",
    "direction",
    "display",
    "font",
    "font-family",
    "font-size",
    "font-style",
    "font-weight",
    "height",
    "letter-spacing",
    "line-height",
    "list-style-type",
    "margin",
    "margin-bottom",
    "margin-left",
    "margin-right",
    "margin-top",
    "max-width",
    "min-width",
    "padding",
    "padding-bottom",
    "padding-left",
    "padding-right",
    "padding-top",
    "text-align",
    "text-decoration",
    "text-transform",
    "vertical-align",
    "width",
}
_HREF = re.compile(r'(<a\b[^>]*?\shref=")([^"]*)(")', re.IGNORECASE)
NEAR = 40
"""Before a field so many signs tell whether it stands in an address."""
_HELD = re.compile(r"https://field\.invalid/(\d+)/")
_TEXT_HELD = re.compile(r"LBHELD(\d+)X")


@dataclass(frozen=True)
class Cleaned:
    """``losses`` says what was taken away, in words; ``styles`` is the sheet that stood in the page."""

    html: str
    losses: tuple[str, ...]
    styles: str = ""


def clean(text: str) -> Cleaned:
    """Fields live through it, in words and in addresses alike."""
    held: list[str] = []

    def hold(found: re.Match[str]) -> str:
        held.append(found[0])
        before = found.string[max(0, found.start() - NEAR) : found.start()]
        inside = re.search(r'(?:href|src)\s*=\s*["\']?$', before, re.IGNORECASE)
        return f"https://field.invalid/{len(held) - 1}/" if inside else f"LBHELD{len(held) - 1}X"

    without, sheets = take_out_styles(text)
    without = without_unclosed(without)
    styles, lost = clean_styles(sheets, frozenset(STYLES))
    kept = nh3.clean(
        TOKEN.sub(hold, without),
        tags=TAGS,
        attributes=ATTRIBUTES,
        url_schemes=SCHEMES,
        link_rel=None,
        filter_style_properties=STYLES,
        strip_comments=True,
    )
    kept = _HELD.sub(lambda found: held[int(found[1])], kept)
    whole = _TEXT_HELD.sub(lambda found: held[int(found[1])], kept)
    return Cleaned(whole, (*_losses(without, kept), *lost), styles)


def tracked(page: str, link: Callable[[str], str]) -> str:
    """The same with the address of each link handed to ``link``; places on the page itself stay."""

    def follow(found: re.Match[str]) -> str:
        url = found[2].replace("&amp;", "&")
        return found[0] if url.startswith("#") else found[1] + link(url) + found[3]

    return _HREF.sub(follow, page)


class _Seen(HTMLParser):
    """Counts tags and attributes."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: Counter[str] = Counter()
        self.attributes: Counter[tuple[str, str]] = Counter()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags[tag] += 1
        for name, _ in attrs:
            self.attributes[tag, name] += 1


def _seen(text: str) -> _Seen:
    found = _Seen()
    found.feed(without_unclosed(TOKEN.sub("", text)))
    found.close()
    return found


_FRAME = {"html", "head", "body", "title", "meta", "tbody"}


def _losses(before: str, after: str) -> list[str]:
    old, new = _seen(before), _seen(after)
    found = [
        f"<{tag}>, {count - new.tags[tag]} times" if count - new.tags[tag] > 1 else f"<{tag}>"
        for tag, count in sorted(old.tags.items())
        if count > new.tags[tag] and tag not in _FRAME
    ]
    for (tag, name), count in sorted(old.attributes.items()):
        if tag in TAGS and count > new.attributes[tag, name] and new.tags[tag]:
            found.append(f"{name} on <{tag}>")
    return found
