"""What is wrong with a message before it is sent, in three levels."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from loyalbell.core.messages import content as c
from loyalbell.core.messages.contrast import LEAST, contrast
from loyalbell.core.messages.email_rendering import CompiledEmail
from loyalbell.core.messages.html.client_support import weak_features
from loyalbell.core.messages.html.own_html import clean
from loyalbell.core.messages.html.own_styles import hard_to_read
from loyalbell.core.messages.markup import as_plain
from loyalbell.core.messages.merge_fields import (
    ALWAYS_KNOWN,
    FIELDS,
    OF_THE_SHOP,
    OWN,
    FieldProblem,
    fields_used,
    fields_without_fallback,
    label_of,
    template,
)
from loyalbell.core.messages.short_rendering import offers_named
from loyalbell.core.messages.spam_signs import ENOUGH, Parts, signs
from loyalbell.core.messages.text_parts import GSM_7, parts, wide_characters
from loyalbell.core.segments.model import segments_in

Level = Literal["must fix", "look at this", "fine"]
MUST, LOOK, FINE = "must fix", "look at this", "fine"
LONG_SUBJECT = 70
CUT_AT = 102_000
"""A large mail program cuts a page longer than about 102 KB (common practice, no source)."""
MOST_ATTACHED = 5_000_000
_LINK = re.compile(r"^(https?://[^\s/]+\S*|mailto:\S+@\S+|tel:\+?[\d\s()-]+)$")
_FIELD_LINK = re.compile(r"^(https?://\S*)?\{\{.*\}\}\S*$")
_KNOWN = {one.name for one in FIELDS}
_TOOK_MANY = 3


@dataclass(frozen=True)
class Finding:
    """``block`` is the number of the block it is about, from 1, or 0; so that the page can lead there."""

    level: Level
    words: str
    block: int = 0


@dataclass(frozen=True)
class PreflightContext:
    """What a message leans on, beside its own words.

    ``missing`` says for how many of the ``audience`` each field is not on file, reckoned from a part of it
    where it ``is_estimate``. ``offers`` are id to why
    codes of it can no longer be given (empty where they can). ``pictures`` are id to its words for who cannot
    see it. ``openings`` are id to state. ``own_page`` says whether a path of our own pages exists.
    """

    look: c.LetterheadLook | None = None
    lacking: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    set_links: frozenset[str] = frozenset()
    own_fields: frozenset[int] = frozenset()
    offers: Mapping[int, str] = field(default_factory=dict)
    pictures: Mapping[int, str] = field(default_factory=dict)
    saved: frozenset[int] = frozenset()
    segments: frozenset[int] = frozenset()
    openings: Mapping[int, str] = field(default_factory=dict)
    attached: int = 0
    missing: Mapping[str, int] = field(default_factory=dict)
    audience: int = 0
    is_estimate: bool = False
    own_page: Callable[[str], bool] = lambda path: True
    public_url: str = ""
    marketing: bool = True
    filter_score: tuple[float, str] | None = None


def preflight(
    writing: c.AnyWriting,
    context: PreflightContext,
    compiled: CompiledEmail | None = None,
) -> list[Finding]:
    """Everything found in one writing, the worst first; one *fine* line says what was looked at and held."""
    found = [*_fields(writing, context), *_conditions(writing, context), *_offers(writing, context)]
    if isinstance(writing, c.EmailContent):
        found += _email(writing, context, compiled)
        fine = "Subject, fields, links, pictures, contrast, size, sender, postal address, unsubscribe link."
    elif isinstance(writing, c.TextContent):
        found += _text(writing, context)
        fine = "Fields, length, alphabet, sender, how to stop."
    else:
        found += _chat(writing, context)
        fine = "Fields, quick replies, opening message, sender."
    found += [Finding("must fix", words) for words in context.lacking.get(writing.channel, ())]
    order = {MUST: 0, LOOK: 1, FINE: 2}
    found.sort(key=lambda finding: order[finding.level])
    if all(finding.level == FINE for finding in found):
        found.append(Finding("fine", fine))
    return found


def blocks_sending(findings: list[Finding]) -> bool:
    return any(finding.level == MUST for finding in findings)


def _fields(writing: c.AnyWriting, context: PreflightContext) -> list[Finding]:
    found, bare = [], set[str]()
    for where, text in c.texts_of(writing):
        block = _block_of(where)
        try:
            template(text)
        except FieldProblem as problem:
            found.append(Finding("must fix", f"In {where}: {problem}", block))
            continue
        for name in sorted(fields_used(text)):
            words = _unknown(name, context)
            if words:
                found.append(Finding("must fix", f"In {where}: {words}", block))
        bare |= {name for name in fields_without_fallback(text) if not _unknown(name, context)}
    for name in sorted(bare - ALWAYS_KNOWN - OF_THE_SHOP):
        if not name.startswith(("offer_", "item")):
            found += _bare(name, context)
    return found


def _block_of(where: str) -> int:
    found = re.match(r"block (\d+)", where)
    return int(found[1]) if found else 0


def _unknown(name: str, context: PreflightContext) -> str:
    if name in OF_THE_SHOP and name not in context.set_links:
        return f"the {label_of(name)} is not set. Give it in Settings."
    if name.startswith("offer_"):
        return ""
    if name.startswith(OWN):
        known = name.removeprefix(OWN).isdecimal() and int(name.removeprefix(OWN)) in context.own_fields
        return "" if known else "it asks for a field of your own that is no longer there."
    return "" if name in _KNOWN else f"there is no field called “{name}”."


def _bare(name: str, context: PreflightContext) -> list[Finding]:
    lacking = context.missing.get(name)
    if lacking == 0:
        return []
    about = "About " if context.is_estimate else ""
    who = f"{about}{lacking:,} of {context.audience:,} have" if lacking else "Whoever has"
    words = f"{who} no {label_of(name)} on file and will not get this. Give words to use instead."
    return [Finding("look at this", words)]


def _conditions(writing: c.AnyWriting, context: PreflightContext) -> list[Finding]:
    found = []
    for when in c.whens(writing):
        if when.rule is not None and not segments_in(when.rule.root) <= context.segments:
            found.append(
                Finding("must fix", "A part is shown to a segment that has been deleted. Choose another.")
            )
    return found


def _offers(writing: c.AnyWriting, context: PreflightContext) -> list[Finding]:
    named: list[tuple[int | None, int]] = []
    if isinstance(writing, c.EmailContent):
        named += [
            (block.offer, at)
            for at, block in enumerate(c.every_block(writing.blocks), 1)
            if isinstance(block, c.Offer)
        ]
    for where, text in c.texts_of(writing):
        named += [(offer, _block_of(where)) for offer in offers_named(text)]
    found = []
    for offer, block in dict.fromkeys(named):
        if offer is None:
            found.append(Finding("must fix", "An offer is not chosen yet.", block))
        elif offer not in context.offers:
            found.append(Finding("must fix", "It names an offer that is not on file.", block))
        elif context.offers[offer]:
            found.append(Finding("must fix", context.offers[offer], block))
    return found


def _email(
    writing: c.EmailContent, context: PreflightContext, compiled: CompiledEmail | None
) -> list[Finding]:
    found = [*_subject(writing), *_body(writing), *_blocks(writing, context), *_wrapping(writing, context)]
    if context.attached > MOST_ATTACHED:
        words = f"The files that go with it come to {context.attached / 1e6:.1f} MB; 5 MB at most."
        found.append(Finding("must fix", words))
    if compiled is not None:
        found += [*_links(compiled, context), *_size(compiled), *_spam(compiled, context)]
    return found


def _subject(writing: c.EmailContent) -> list[Finding]:
    if not writing.subject.strip():
        return [Finding("must fix", "There is no subject.")]
    found: list[Finding] = []
    length = len(as_plain(re.sub(r"\{\{.*?\}\}", "Name", writing.subject), str))
    if length > LONG_SUBJECT:
        words = f"The subject has about {length} characters; phones show about {LONG_SUBJECT}."
        found.append(Finding("look at this", words))
    if not writing.preview.strip():
        found.append(
            Finding("look at this", "There is no preview line; mail programs will show the first words.")
        )
    return found


def _body(writing: c.EmailContent) -> list[Finding]:
    empty = {
        "letter": not any(_says_something(block) for block in c.every_block(writing.blocks)),
        "html": not writing.html.strip(),
        "plain": not writing.plain.strip(),
    }
    if empty[writing.form]:
        return [Finding("must fix", "The message is empty. Write something in it.")]
    if writing.form == "html":
        found = [*_own_html(writing.html, 0)]
        if not writing.plain.strip():
            found.append(
                Finding("look at this", "There is no plain text beside your own HTML; some read only that.")
            )
        return found
    return []


def _says_something(block: object) -> bool:
    if isinstance(block, c.Heading | c.Text):
        return bool(block.text.strip())
    return isinstance(block, c.Button | c.Picture | c.Items | c.Offer | c.Saved | c.OwnHtml)


def _own_html(text: str, block: int) -> list[Finding]:
    cleaned = clean(text)
    found = []
    if cleaned.losses:
        found.append(Finding("look at this", f"Taken out of your HTML: {', '.join(cleaned.losses)}.", block))
    for weak in weak_features(cleaned.html)[:_TOOK_MANY]:
        words = f"{weak.feature} does not work in {weak.no} of {weak.of} mail programs."
        found.append(Finding("look at this", words, block))
    for hard in hard_to_read(cleaned.html, cleaned.styles)[:_TOOK_MANY]:
        words = (
            f"“{hard.words}” is hard to read: {hard.ink} on {hard.ground} has a contrast of"
            f" {hard.ratio:.1f} to 1, and {LEAST} is needed."
        )
        found.append(Finding("look at this", words, block))
    if re.search(r"<img(?![^>]*\balt=)[^>]*>", cleaned.html):
        found.append(Finding("look at this", "A picture in your HTML has no alt text.", block))
    return found


def _blocks(writing: c.EmailContent, context: PreflightContext) -> list[Finding]:
    if writing.form != "letter":
        return []
    found: list[Finding] = []
    for at, block in enumerate(c.every_block(writing.blocks), 1):
        found += _block(block, at, context)
    return found


def _block(block: object, at: int, context: PreflightContext) -> list[Finding]:
    if isinstance(block, c.Button) and not block.label.strip():
        return [Finding("must fix", "A button has no words on it.", at)]
    if isinstance(block, c.Button) and not block.url.strip():
        return [Finding("must fix", f"“{block.label}” leads nowhere. Give it an address like https://…", at)]
    if isinstance(block, c.Picture):
        if block.picture is None or block.picture not in context.pictures:
            return [Finding("must fix", "A picture is not chosen yet, or has been deleted.", at)]
        if not block.alt.strip() and not context.pictures[block.picture].strip():
            return [Finding("look at this", "A picture has no alt text.", at)]
    if isinstance(block, c.Items) and block.list == "field" and block.field not in context.own_fields:
        return [Finding("must fix", "The items come from a field of the customer: choose which one.", at)]
    if isinstance(block, c.Saved) and block.saved not in context.saved:
        return [Finding("must fix", "A kept block is not chosen yet, or has been deleted.", at)]
    if isinstance(block, c.OwnHtml):
        return _own_html(block.html, at)
    return []


def _links(compiled: CompiledEmail, context: PreflightContext) -> list[Finding]:
    found = []
    for url in dict.fromkeys(link.strip() for link in compiled.links):
        if not url or _FIELD_LINK.match(url):
            continue
        if not _LINK.match(url):
            found.append(Finding("must fix", f"“{url}” is no address. Write it like https://…"))
        elif context.public_url and url.startswith(context.public_url + "/"):
            if not context.own_page(url.removeprefix(context.public_url)):
                found.append(Finding("must fix", f"“{url}” is not one of our pages."))
        elif url.startswith("http://"):
            found.append(Finding("look at this", f"“{url}” is not safe to travel on; https:// would be."))
    return found


def _wrapping(writing: c.EmailContent, context: PreflightContext) -> list[Finding]:
    look = context.look
    if look is None:
        return [Finding("must fix", "No letterhead is chosen.")]
    found: list[Finding] = []
    if context.marketing and not look.footer.strip():
        found.append(Finding("must fix", "The letterhead has no postal address in its footer."))
    for words, one, other in (
        ("The words", look.ink, look.card),
        ("The words on buttons", "#ffffff", look.accent),
        ("The words of the footer", "#5d574c", look.card),
    ):
        ratio = contrast(one, other)
        if ratio < LEAST:
            said = (
                f"{words} have too little contrast with their background: {ratio:.1f} to 1, and {LEAST} is"
                " needed. Change the letterhead’s colours."
            )
            found.append(Finding("look at this", said))
    return found


def _size(compiled: CompiledEmail) -> list[Finding]:
    size = len(compiled.html.encode())
    if size > CUT_AT:
        words = f"The page is {size / 1000:.0f} KB; some mail programs cut it at about 102 KB."
        return [Finding("look at this", words)]
    return []


def _spam(compiled: CompiledEmail, context: PreflightContext) -> list[Finding]:
    if context.filter_score is not None:
        score, words = context.filter_score
        level: Level = "must fix" if score >= ENOUGH else "look at this" if score >= ENOUGH / 2 else "fine"
        said = f"Spam score {round(score, 1) + 0.0:.1f} of {ENOUGH:.0f}, by the filter on this machine"
        return [Finding(level, f"{said}: {words}." if words else f"{said}.")]
    mail = Parts(
        compiled.subject, compiled.html, compiled.text, compiled.html.count("/picture/"), compiled.links
    )
    held = signs(mail)
    score = sum(one.points for one in held)
    if not held:
        return []
    level = "must fix" if score >= ENOUGH else "look at this"
    said = (
        f"Spam filters may mind it, {score:.1f} of {ENOUGH:.0f} by our own rules:"
        f" {'; '.join(one.words for one in held)}."
    )
    return [Finding(level, said)]


def _text(writing: c.TextContent, context: PreflightContext) -> list[Finding]:
    whole = "\n".join(text.text for text in writing.texts)
    if not whole.strip():
        return [Finding("must fix", "The text is empty. Write something in it.")]
    found: list[Finding] = []
    plain = re.sub(r"\{\{.*?\}\}|\{%.*?%\}", "", whole, flags=re.DOTALL)
    counted = parts(plain)
    if counted.encoding != GSM_7:
        wide = wide_characters(plain)
        signs_ = ", ".join(
            f"“{one.character}”" + (f" (plain: “{one.twin}”)" if one.twin else "") for one in wide[:4]
        )
        found.append(
            Finding(
                "look at this",
                f"{signs_} takes the wide alphabet, so that a part holds 70 characters instead of 160.",
            )
        )
    if counted.parts > _TOOK_MANY:
        found.append(Finding("look at this", f"It takes {counted.parts} parts, and each is paid for."))
    if context.marketing and not re.search(r"\bstop\b|\balto\b|\barret\b|stop_words", whole, re.IGNORECASE):
        found.append(Finding("look at this", "It does not say how to stop. Put in “Reply STOP to end”."))
    return found


def _chat(writing: c.ChatContent, context: PreflightContext) -> list[Finding]:
    if not any(text.text.strip() for text in writing.texts):
        return [Finding("must fix", "The chat message is empty. Write something in it.")]
    found: list[Finding] = []
    if writing.opening is None:
        found.append(
            Finding(
                "look at this",
                "No opening message is chosen: only who wrote to you within a day will get it.",
            )
        )
    elif context.openings.get(writing.opening) != "approved":
        found.append(Finding("must fix", "The opening message is not approved by the network yet."))
    if writing.picture is not None and writing.picture not in context.pictures:
        found.append(Finding("must fix", "The picture has been deleted. Choose another."))
    return found
