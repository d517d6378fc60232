"""What is wrong with a message before it is sent, in three levels."""

import re
from dataclasses import dataclass
from typing import Literal

from loyalbell.core.messages.content import Button, EmailContent, LetterheadLook
from loyalbell.core.messages.fields import (
    FIELDS,
    FieldProblem,
    fields_used,
    fields_without_fallback,
    label_of,
    template,
)

Level = Literal["must fix", "look at this", "fine"]
LONG_SUBJECT = 70
_LINK = re.compile(r"^(https?://[^\s/]+\S*|mailto:\S+@\S+|tel:\+?[\d-]+)$")
PROVIDED = {"unsubscribe_url", *(field.name for field in FIELDS)}


@dataclass(frozen=True)
class Finding:
    level: Level
    words: str


def preflight(content: EmailContent, look: LetterheadLook | None, sender_email: str) -> list[Finding]:
    """Everything found, the worst first; one *fine* line says what was looked at and held."""
    found = [
        *_subject(content),
        *_body(content),
        *_fields(content),
        *_links(content),
        *_wrapping(look, sender_email),
    ]
    found.sort(key=lambda finding: finding.level != "must fix")
    if not found:
        found.append(Finding("fine", "Subject, fields, links, sender, postal address, unsubscribe link."))
    return found


def blocks_sending(findings: list[Finding]) -> bool:
    return any(finding.level == "must fix" for finding in findings)


def _subject(content: EmailContent) -> list[Finding]:
    if not content.subject.strip():
        return [Finding("must fix", "There is no subject.")]
    found = []
    if len(content.subject) > LONG_SUBJECT:
        words = f"The subject has {len(content.subject)} characters; phones show about {LONG_SUBJECT}."
        found.append(Finding("look at this", words))
    if not content.preview.strip():
        found.append(
            Finding("look at this", "There is no preview line; mail programs will show the first words.")
        )
    return found


def _body(content: EmailContent) -> list[Finding]:
    if any(text.strip() for text in content.written()[2:]):
        return []
    return [Finding("must fix", "The message is empty. Write something in it.")]


def _fields(content: EmailContent) -> list[Finding]:
    found, bare = [], set()
    for text in content.written():
        try:
            template(text)
        except FieldProblem as problem:
            found.append(Finding("must fix", str(problem)))
            continue
        unknown = sorted(fields_used(text) - PROVIDED)
        found += [Finding("must fix", f"There is no field called “{name}”.") for name in unknown]
        bare |= fields_without_fallback(text) & PROVIDED
    for name in sorted(bare):
        words = f"Whoever has no {label_of(name)} on file will not get this. Give words to use instead."
        found.append(Finding("look at this", words))
    return found


def _links(content: EmailContent) -> list[Finding]:
    found = []
    for block in content.blocks:
        if not isinstance(block, Button):
            continue
        label = block.label.strip() or "A button without words"
        if not block.label.strip():
            found.append(Finding("must fix", "A button has no words on it."))
        if not _LINK.match(block.url.strip()):
            found.append(Finding("must fix", f"“{label}” leads nowhere. Give it an address like https://…"))
    return found


def _wrapping(look: LetterheadLook | None, sender_email: str) -> list[Finding]:
    found = []
    if look is None:
        found.append(Finding("must fix", "No letterhead is chosen."))
    elif not look.footer.strip():
        found.append(Finding("must fix", "The letterhead has no postal address in its footer."))
    if not sender_email:
        found.append(Finding("must fix", "There is no sender address. Set it in Settings."))
    return found
