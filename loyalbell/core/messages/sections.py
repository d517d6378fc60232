"""The parts of a writing that only some people are shown: what they are called, and who was shown which."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

MOST_LETTERS = 40
KINDS = {
    "heading": "Heading",
    "text": "Text",
    "button": "Button",
    "picture": "Picture",
    "items": "Items",
    "offer": "Offer",
    "divider": "Line",
    "spacer": "Space",
    "social": "Places elsewhere",
    "saved": "Kept block",
    "html": "Own HTML",
    "columns": "Columns",
}
"""What a part is called that has no words of its own."""
_MARKS = re.compile(r"\*+|\[([^\]]*)\]\([^)]*\)|\{\{\s*([\w.]+)[^}]*\}\}|\{%[^%]*%\}")
SHOWN, LEFT_OUT = "1", "0"


@dataclass(frozen=True)
class Section:
    """A part shown to whoever has the fact ``shows``, or, where that is empty, to whoever has none of the
    facts ``above``: those of the parts right above it.
    """

    name: str
    shows: str
    above: tuple[str, ...] = ()

    def is_shown(self, facts: Mapping[str, object]) -> bool:
        """By the facts that the writing was filled with."""
        return bool(facts.get(self.shows)) if self.shows else not any(facts.get(fact) for fact in self.above)


def marks(sections: Sequence[Section], facts: Mapping[str, object]) -> str:
    """Of each section in turn whether it is shown: ``SHOWN`` or ``LEFT_OUT``."""
    return "".join(SHOWN if section.is_shown(facts) else LEFT_OUT for section in sections)


def name_of(part: object) -> str:
    """The name that it was given; else the first words of a block or piece, without its marks; else what kind
    of block it is.
    """
    when = getattr(part, "when", None)
    if when is not None and when.name:
        return str(when.name)
    words = next(
        (said for field in ("text", "label", "alt", "words") if (said := getattr(part, field, ""))), ""
    )
    plain = " ".join(_MARKS.sub(lambda found: found[1] or found[2] or "", words).split())
    if not plain:
        return KINDS.get(getattr(part, "kind", "text"), "Part")
    return plain if len(plain) <= MOST_LETTERS else plain[: MOST_LETTERS - 1].rstrip() + "…"
