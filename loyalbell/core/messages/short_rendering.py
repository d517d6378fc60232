"""Text and chat messages: their pieces with conditions and followed links, as one Liquid template."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from loyalbell.core.messages.content import ChatContent, ShortWriting
from loyalbell.core.messages.email_rendering import link_name
from loyalbell.core.messages.merge_fields import FIELDS, LINKS, TOKEN, fill
from loyalbell.core.messages.sections import Section, name_of
from loyalbell.core.segments.model import Rule

OPEN_HOURS = 24
"""A conversation is open for a day after the customer wrote last (common practice, no source)."""
_URL = re.compile(r"https?://[^\s{}]+(?:\{\{[^}]*\}\}[^\s{}]*)*")
_FIELD = re.compile(
    r"\{\{\s*(" + "|".join(field.name for field in FIELDS if field.group == LINKS) + r")\s*\}\}"
)
_OFFER = re.compile(r"\boffer_(\d+)\.")
FOLLOWED = ("booking_url", "review_url")


@dataclass(frozen=True)
class CompiledShort:
    """``text`` is a Liquid template; the rest as in an email. ``picture`` and ``replies`` are of a chat."""

    text: str
    links: tuple[str, ...]
    rules: tuple[Rule, ...]
    offers: tuple[int, ...]
    picture: int | None = None
    replies: tuple[str, ...] = ()
    item_lists: tuple[()] = ()
    sections: tuple[Section, ...] = ()


def offers_named(text: str) -> tuple[int, ...]:
    """Ids of the offers whose code, terms or end a text names, such as ``{{ offer_3.code }}``."""
    found = (int(number) for token in TOKEN.findall(text) for number in _OFFER.findall(token))
    return tuple(dict.fromkeys(found))


def compile_short(writing: ShortWriting) -> CompiledShort:
    links: list[str] = []
    rules: list[Rule] = []
    sections: list[Section] = []
    above: list[str] = []
    pieces = []

    def follow(found: re.Match[str]) -> str:
        if found[0].startswith("{{") and found[1] not in FOLLOWED:
            return found[0]
        address = found[0].rstrip(".,;:!?)")
        links.append(address)
        return "{{ " + link_name(len(links) - 1) + " }}" + found[0][len(address) :]

    for one in writing.texts:
        if one.when is None:
            above.clear()
        text = _FIELD.sub(follow, _URL.sub(follow, one.text.strip()))
        if one.when is not None and one.when.rule is not None:
            rules.append(one.when.rule)
            above.append(f"show_{len(rules) - 1}")
            sections.append(Section(name_of(one), above[-1]))
            text = "{% if " + above[-1] + " %}" + text + "\n{% endif %}"
        elif one.when is not None and one.when.otherwise and above:
            sections.append(Section(name_of(one), "", tuple(above)))
            text = "{% unless " + " or ".join(above) + " %}" + text + "\n{% endunless %}"
        else:
            text += "\n"
        pieces.append(text)
    whole = "".join(pieces)
    made = CompiledShort(whole, tuple(links), tuple(rules), offers_named(whole), sections=tuple(sections))
    if isinstance(writing, ChatContent):
        return replace(made, picture=writing.picture, replies=tuple(writing.replies))
    return made


def fill_short(compiled: CompiledShort, facts: Mapping[str, object]) -> str:
    """One person's words. Raises ``FieldProblem``."""
    return fill(compiled.text, facts).strip()


def conversation_open(last_heard: datetime | None, now: datetime) -> bool:
    """Whether a chat may be answered freely."""
    return last_heard is not None and now - last_heard < timedelta(hours=OPEN_HOURS)
