"""What of one's own HTML does not work in many mail programs."""

import re
from dataclasses import dataclass
from html.parser import HTMLParser

from loyalbell.core.messages.html.client_support_data import SUPPORT
from loyalbell.core.messages.html.unclosed import without_unclosed
from loyalbell.core.messages.merge_fields import TOKEN

MANY = 0.15
_DECLARED = re.compile(r"([a-z-]+)\s*:", re.IGNORECASE)


@dataclass(frozen=True)
class Weak:
    """``feature`` does not work in ``no`` of ``of`` mail programs, and only in part in ``partly``."""

    feature: str
    no: int
    partly: int
    of: int


class _Features(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.slugs: dict[str, str] = {}

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self._note(f"html-{tag}", f"<{tag}>")
        for name, value in attrs:
            self._note(f"html-{name}", name)
            if name == "style":
                for declared in _DECLARED.findall(value or ""):
                    self._note(f"css-{declared.lower()}", declared.lower())
            if name == "src" and "." in (value or ""):
                ending = (value or "").rpartition(".")[2].lower()
                self._note(f"image-{ending}", f"pictures of the kind {ending}")
            if name == "style" and "display" in (value or ""):
                for kind in re.findall(r"display\s*:\s*(flex|grid)", value or ""):
                    self._note(f"css-display-{kind}", f"display: {kind}")

    def _note(self, slug: str, words: str) -> None:
        if slug in SUPPORT:
            self.slugs.setdefault(slug, words)


def weak_features(html: str) -> list[Weak]:
    """Those that fail in more than ``MANY`` of the programs, the worst first. From the data of caniemail."""
    seen = _Features()
    seen.feed(without_unclosed(TOKEN.sub("", html)))
    seen.close()
    found = []
    for slug, words in seen.slugs.items():
        no, partly, yes = SUPPORT[slug]
        whole = no + partly + yes
        if whole and no / whole > MANY:
            found.append(Weak(words, no, partly, whole))
    return sorted(found, key=lambda one: -one.no / one.of)
