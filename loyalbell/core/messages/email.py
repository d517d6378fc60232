"""From content and letterhead to one person's email.

An email is compiled once into Liquid templates (through MJML for its HTML part)
and then filled per person.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from mjml import mjml2html

from loyalbell.core.messages.content import Block, Button, EmailContent, Heading, LetterheadLook
from loyalbell.core.messages.fields import TOKEN, escape_around_fields, fill

FONTS = "Verdana, Arial, sans-serif"
PIXEL = '{% if open_pixel %}<img src="{{ open_pixel }}" width="1" height="1" alt="" />{% endif %}'
REFUSAL_WORDS = "Unsubscribe from our emails"
REASON_WORDS = "You get this because you agreed to email from {{ shop_name }}."


@dataclass(frozen=True)
class CompiledEmail:
    """Liquid templates of one email. ``links`` are the addresses its buttons lead to."""

    subject: str
    html: str
    text: str
    links: tuple[str, ...]


@dataclass(frozen=True)
class FilledEmail:
    subject: str
    html: str
    text: str


class _Aside:
    """Takes Liquid out of a text before MJML reads it, and puts it back after."""

    def __init__(self) -> None:
        self.tokens: list[str] = []

    def take(self, text: str) -> str:
        return TOKEN.sub(self._keep, escape_around_fields(text))

    def _keep(self, found: re.Match[str]) -> str:
        self.tokens.append(found[0])
        return f"LBFIELD{len(self.tokens) - 1}X"

    def put_back(self, text: str) -> str:
        return re.sub(r"LBFIELD(\d+)X", lambda found: self.tokens[int(found[1])], text)


def compile_email(content: EmailContent, look: LetterheadLook) -> CompiledEmail:
    aside = _Aside()
    page = aside.put_back(mjml2html(_mjml(content, look, aside.take)))
    return CompiledEmail(
        subject=content.subject,
        html=page.replace("</body>", PIXEL + "</body>"),
        text=_plain(content, look),
        links=tuple(content.links()),
    )


def fill_email(compiled: CompiledEmail, facts: Mapping[str, object]) -> FilledEmail:
    """One person's email.

    ``facts`` are the person's fields plus ``unsubscribe_url``, ``link_0`` ...,
    and ``open_pixel`` (an address, or empty for a preview). Raises ``FieldProblem``.
    """
    subject = " ".join(fill(compiled.subject, facts).split())
    return FilledEmail(subject, fill(compiled.html, facts, markup=True), fill(compiled.text, facts))


def link_name(number: int) -> str:
    """The field that holds the address of the button with this number."""
    return f"link_{number}"


def _mjml(content: EmailContent, look: LetterheadLook, take: Callable[[str], str]) -> str:
    blocks, links = [], 0
    for block in content.blocks:
        blocks.append(_block(block, links, look, take))
        links += isinstance(block, Button)
    return f"""<mjml lang="en">
<mj-head>
<mj-title>{take(content.subject)}</mj-title>
<mj-preview>{take(content.preview)}</mj-preview>
<mj-attributes><mj-all font-family="{FONTS}" color="{look.ink}" /></mj-attributes>
</mj-head>
<mj-body background-color="#f5f1e8" width="600px">
<mj-section background-color="#ffffff" padding="24px 0 0">
<mj-column>
<mj-text align="center" font-size="20px" font-weight="700">{take(look.header)}</mj-text>
<mj-divider border-color="{look.accent}" border-width="3px" padding="8px 25px 12px" />
{"".join(blocks)}
</mj-column>
</mj-section>
<mj-section background-color="#ffffff" padding="8px 0 24px">
<mj-column>
<mj-text font-size="13px" line-height="1.5" color="#5d574c">{_paragraph(look.footer, take)}<br />\
{take(REASON_WORDS)}<br />\
<a href="{take("{{ unsubscribe_url }}")}">{REFUSAL_WORDS}</a></mj-text>
</mj-column>
</mj-section>
</mj-body>
</mjml>"""


def _block(block: Block, link: int, look: LetterheadLook, take: Callable[[str], str]) -> str:
    if isinstance(block, Heading):
        return f'<mj-text font-size="24px" line-height="1.3" font-weight="700">{take(block.text)}</mj-text>'
    if isinstance(block, Button):
        href = take("{{ " + link_name(link) + " }}")
        return (
            f'<mj-button align="left" href="{href}" background-color="{look.accent}" color="#ffffff"'
            f' font-size="16px" border-radius="4px">{take(block.label)}</mj-button>'
        )
    paragraphs = re.split(r"\n\s*\n", block.text.strip())
    return "".join(
        f'<mj-text font-size="16px" line-height="1.5">{_paragraph(paragraph, take)}</mj-text>'
        for paragraph in paragraphs
    )


def _paragraph(text: str, take: Callable[[str], str]) -> str:
    return take(text).replace("\n", "<br />")


def _plain(content: EmailContent, look: LetterheadLook) -> str:
    parts, links = [look.header], 0
    for block in content.blocks:
        if isinstance(block, Button):
            parts.append(f"{block.label}:\n{{{{ {link_name(links)} }}}}")
            links += 1
        else:
            parts.append(block.text.strip())
    parts.append(f"-- \n{look.footer}\n{REASON_WORDS}\n{REFUSAL_WORDS}: {{{{ unsubscribe_url }}}}")
    return "\n\n".join(parts) + "\n"
