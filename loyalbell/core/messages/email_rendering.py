"""From an email as it is written, and its letterhead, to templates that are filled per person.

An email is compiled once, through MJML for its HTML part, into Liquid templates. Blocks with a
condition stand inside ``{% if show_0 %}``; cards of items loop over ``items_0``.
"""

import html
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from mjml import mjml2html

from loyalbell.core.messages import content as c
from loyalbell.core.messages.html.own_html import clean, tracked
from loyalbell.core.messages.markup import PARAGRAPHS, Aside, as_html, as_plain
from loyalbell.core.messages.merge_fields import fill
from loyalbell.core.messages.sections import Section, name_of
from loyalbell.core.messages.standard_phrases import words_in
from loyalbell.core.segments.model import Rule

PIXEL = '{% if open_pixel %}<img src="{{ open_pixel }}" width="1" height="1" alt="" />{% endif %}'
NO_XML = re.compile("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""Characters that no XML may hold (XML 1.0, fifth edition, section 2.2): one pasted along would break the page.
"""
PARTED = "\x1e\x1e"
DARK = "@media (prefers-color-scheme: dark)"
DARK_STYLE = (
    ".lb-dark { display: none; } " + DARK + " { .lb-light { display: none !important } .lb-dark {"
    " display: table-cell !important } .lb-page, .lb-page > div { background: #161a1b !important } .lb-card, .lb-card > table {"
    " background: #21282a !important } .lb-words div, .lb-words td, .lb-words a:not(.lb-button) { color: #f1ede4"
    " !important } }"
)


@dataclass(frozen=True)
class PictureFact:
    url: str
    width: int
    alt: str


@dataclass(frozen=True)
class RenderContext:
    """What an email leans on besides its own words.

    ``bare``: an answer to one person, without header and footer.
    """

    look: c.LetterheadLook
    pictures: Mapping[int, PictureFact] = field(default_factory=dict)
    saved: Mapping[int, c.Block] = field(default_factory=dict)
    social: Sequence[tuple[str, str]] = ()
    bare: bool = False


@dataclass(frozen=True)
class CompiledEmail:
    """Liquid templates of one email.

    ``links`` are the addresses its links lead to, by their number; ``rules`` those that ``show_0`` ... ask;
    ``item_lists`` the blocks behind ``items_0`` ...; ``offers`` the ids of the offers in it;
    ``sections`` the parts that are shown to some only.
    """

    subject: str
    html: str
    text: str
    links: tuple[str, ...]
    rules: tuple[Rule, ...]
    item_lists: tuple[c.Items, ...]
    offers: tuple[int, ...]
    sections: tuple[Section, ...] = ()

    @cached_property
    def words(self) -> str:
        """Subject and plain text as one template, filled together."""
        return f"{self.subject}{PARTED}{self.text}"


@dataclass(frozen=True)
class FilledEmail:
    """``html`` is empty for an email of plain text alone."""

    subject: str
    html: str
    text: str


def link_name(number: int) -> str:
    """The field that holds the address of the link with this number."""
    return f"link_{number}"


def fill_email(compiled: CompiledEmail, facts: Mapping[str, object]) -> FilledEmail:
    """One person's email.

    ``facts`` are the person's fields plus ``unsubscribe_url``, ``preferences_url``, ``browser_url``,
    ``link_0`` ..., ``show_0`` ..., ``items_0`` ..., and ``open_pixel`` (an address, or empty for a preview).
    Raises ``FieldProblem``.
    """
    subject, _, text = fill(compiled.words, facts).partition(PARTED)
    page = fill(compiled.html, facts, markup=True) if compiled.html else ""
    return FilledEmail(" ".join(subject.split()), page, text)


def compile_email(email: c.EmailContent, context: RenderContext) -> CompiledEmail:
    return _Compiler(email, context).compile()


@dataclass
class _Made:
    """A block twice: for the page and for the plain text."""

    page: str
    plain: str = ""


def _no_fields(styles: str) -> str:
    """Styles in which no two marks that follow one another are taken for a field."""
    return styles.replace("{{", "{ {").replace("{%", "{ %")


class _Compiler:
    def __init__(self, email: c.EmailContent, context: RenderContext) -> None:
        self.email, self.context, self.look = email, context, context.look
        self.aside, self.words = Aside(), words_in(email.language)
        self.links: list[str] = []
        self.rules: list[Rule] = []
        self.sections: list[Section] = []
        self.item_lists: list[c.Items] = []
        self.offers: list[int] = []
        self.styles: list[str] = []

    def compile(self) -> CompiledEmail:
        page, plain = self._body()
        return CompiledEmail(
            self.email.subject.replace(PARTED, ""),
            page,
            plain,
            tuple(self.links),
            tuple(self.rules),
            tuple(self.item_lists),
            tuple(dict.fromkeys(self.offers)),
            tuple(self.sections),
        )

    def _body(self) -> tuple[str, str]:
        if self.email.form == "plain":
            return "", self._plain([as_plain(self.email.plain.strip(), self.link)])
        if self.email.form == "html":
            cleaned = clean(self.email.html)
            page = tracked(cleaned.html, self.link)
            own = self.email.plain.strip()
            return self._own_page(page, cleaned.styles), self._plain(
                [as_plain(own, self.link)] if own else []
            )
        made = self._blocks(self.email.blocks)
        written = NO_XML.sub("", self._mjml("".join(one.page for one in made)))
        page = self.aside.put_back(mjml2html(written))
        page = page.replace("</body>", PIXEL + "</body>")
        if self.email.plain.strip():
            return page, self._plain([as_plain(self.email.plain.strip(), self.link)])
        return page, self._plain([one.plain for one in made if one.plain])

    def link(self, url: str) -> str:
        """The Liquid that stands for one more link."""
        self.links.append(url)
        return "{{ " + link_name(len(self.links) - 1) + " }}"

    def _href(self, url: str) -> str:
        return self.aside.raw(self.link(url))

    # conditions

    def _blocks(self, blocks: Sequence[object]) -> list[_Made]:
        made, above = [], list[str]()
        for block in blocks:
            when: c.When | None = getattr(block, "when", None)
            if when is None:
                above = []
            begin, end = self._condition(when, above, name_of(block))
            one = self._block(block)
            if begin:
                one = _Made(self._raw(begin) + one.page + self._raw(end), f"{begin}{one.plain}{end}")
            made.append(one)
        return made

    def _condition(self, when: c.When | None, above: list[str], name: str) -> tuple[str, str]:
        if when is not None and when.rule is not None:
            self.rules.append(when.rule)
            above.append(f"show_{len(self.rules) - 1}")
            self.sections.append(Section(name, above[-1]))
            return "{% if " + above[-1] + " %}", "{% endif %}"
        if when is not None and when.otherwise and above:
            self.sections.append(Section(name, "", tuple(above)))
            return "{% unless " + " or ".join(above) + " %}", "{% endunless %}"
        return "", ""

    def _raw(self, liquid: str) -> str:
        return f"<mj-raw>{self.aside.raw(liquid)}</mj-raw>"

    # blocks

    def _block(self, block: object) -> _Made:
        match block:
            case c.Heading():
                words = self.aside.take(block.text)
                return _Made(
                    '<mj-text css-class="lb-words" font-size="24px" line-height="1.3"'
                    f' font-weight="700">{words}</mj-text>',
                    block.text.strip(),
                )
            case c.Text():
                return self._text(block)
            case c.Button():
                return self._button(block)
            case c.Picture():
                return self._picture(block)
            case c.Items():
                return self._items(block)
            case c.Offer():
                return self._offer(block)
            case c.Divider():
                return _Made('<mj-divider border-color="#d8cfbd" border-width="1px" />', "--------")
            case c.Spacer():
                return _Made(f'<mj-spacer height="{block.height}px" />')
            case c.Social():
                return self._social()
            case c.Saved():
                kept = self.context.saved.get(block.saved or 0)
                return self._block(kept) if kept is not None and not isinstance(kept, c.Saved) else _Made("")
            case c.OwnHtml():
                cleaned = clean(block.html)
                inner = tracked(cleaned.html, self.link)
                self.styles.append(cleaned.styles)
                return _Made(
                    '<mj-text css-class="lb-words" font-size="16px"'
                    f' line-height="1.5">{self.aside.raw(inner)}</mj-text>'
                )
            case c.Columns():
                return self._columns(block)
        raise TypeError(type(block))

    def _text(self, block: c.Text) -> _Made:
        pages, plains = [], []
        for paragraph in PARAGRAPHS.split(block.text.strip()):
            begin = len(self.links)
            words = as_html(paragraph, self.aside, lambda url: self._href(url))
            numbers = iter(range(begin, len(self.links)))
            plains.append(as_plain(paragraph, lambda url, own=numbers: "{{ " + link_name(next(own)) + " }}"))  # type: ignore[misc]
            pages.append(
                f'<mj-text css-class="lb-words" font-size="16px" line-height="1.5">{words}</mj-text>'
            )
        return _Made("".join(pages), "\n\n".join(plains))

    def _button(self, block: c.Button) -> _Made:
        address = self.link(block.url)
        return _Made(
            f'<mj-button align="left" href="{self.aside.raw(address)}" background-color="{self.look.accent}"'
            ' color="#ffffff" font-size="16px"'
            f' border-radius="4px">{self.aside.take(block.label)}</mj-button>',
            f"{block.label}:\n{address}",
        )

    def _picture(self, block: c.Picture) -> _Made:
        fact = self.context.pictures.get(block.picture or 0)
        if fact is None:
            return _Made("")
        width = min(fact.width, round((self.look.width - 50) * block.width / 100))
        alt = self.aside.take(block.alt or fact.alt)
        address = self.link(block.url) if block.url else ""
        href = f' href="{self.aside.raw(address)}"' if address else ""
        plain = f"[{block.alt or fact.alt}]" if block.alt or fact.alt else ""
        return _Made(
            f'<mj-image src="{html.escape(fact.url)}" alt="{alt}" width="{width}px"{href} />',
            f"{plain}\n{address}".strip(),
        )

    def _items(self, block: c.Items) -> _Made:
        self.item_lists.append(block)
        name = f"items_{len(self.item_lists) - 1}"
        price = "{% if item.price != blank %}<br />{{ item.price }}{% endif %}" if block.prices else ""
        row = (
            "{% for item in " + name + " %}"
            '<tr><td width="84" style="padding:6px 12px 6px 0;vertical-align:top">{% if item.picture !='
            " blank %}"
            '<img src="{{ item.picture }}" width="72" height="72" alt="" style="border-radius:6px" />{% endif'
            " %}</td>"
            '<td style="padding:6px 0;font-size:16px;line-height:1.5;vertical-align:top"><a href="{{ item.url'
            ' }}" '
            f'style="font-weight:700;color:{self.look.ink}">{{{{ item.name }}}}</a>{price}</td></tr>'
            "{% endfor %}"
        )
        plain_price = "{% if item.price != blank %} ({{ item.price }}){% endif %}" if block.prices else ""
        plain = (
            "{% for item in " + name + " %}- {{ item.name }}" + plain_price + ": {{ item.url }}\n{% endfor %}"
        )
        shown = "{% if " + name + " != empty %}"
        return _Made(
            self._raw(shown)
            + f'<mj-table css-class="lb-words">{self.aside.raw(row)}</mj-table>'
            + self._raw("{% endif %}"),
            plain,
        )

    def _offer(self, block: c.Offer) -> _Made:
        if block.offer is None:
            return _Made("")
        self.offers.append(block.offer)
        name = f"offer_{block.offer}"
        address = "{{ " + name + ".url }}"
        words = (
            as_html(block.words, self.aside, lambda url: self._href(url))
            if block.words
            else self.aside.raw("{{ " + name + ".name }}")
        )
        code, terms = self.aside.raw("{{ " + name + ".code }}"), self.aside.raw("{{ " + name + ".terms }}")
        qr = (
            f'<mj-image src="{self.aside.raw("{{ " + name + ".qr }}")}"'
            f' alt="{self.aside.raw("{{ " + name + ".code }}")}" width="132px" padding="4px" />'
            if block.qr
            else ""
        )
        page = (
            '<mj-text css-class="lb-words" align="center" font-size="20px" font-weight="700"'
            f' padding-bottom="0">{words}</mj-text>{qr}<mj-text css-class="lb-words" align="center"'
            f' font-size="22px" letter-spacing="2px"><a href="{self.aside.raw(address)}"'
            f' style="color:{self.look.ink}">{code}</a></mj-text><mj-text css-class="lb-words" align="center"'
            f' font-size="13px" line-height="1.4" padding-top="0">{terms}</mj-text>'
        )
        said = as_plain(block.words, self.link) if block.words else "{{ " + name + ".name }}"
        return _Made(
            page, f"{said}\n{self.words['code']}: {{{{ {name}.code }}}}\n{{{{ {name}.terms }}}}\n{address}"
        )

    def _social(self) -> _Made:
        links = [(name, self.link(url)) for name, url in self.context.social]
        if not links:
            return _Made("")
        page = " · ".join(
            f'<a href="{self.aside.raw(address)}">{html.escape(name)}</a>' for name, address in links
        )
        plain = "\n".join(f"{name}: {address}" for name, address in links)
        return _Made(f'<mj-text css-class="lb-words" align="center" font-size="14px">{page}</mj-text>', plain)

    def _columns(self, block: c.Columns) -> _Made:
        columns = [self._blocks(column) for column in block.columns]
        inner = "".join(f"<mj-column>{''.join(one.page for one in column)}</mj-column>" for column in columns)
        plain = "\n\n".join(one.plain for column in columns for one in column if one.plain)
        return _Made(
            f"</mj-column></mj-section>{self._section(inner)}{self._section_open()}<mj-column>", plain
        )

    # what wraps it

    def _section_open(self) -> str:
        return f'<mj-section css-class="lb-card" background-color="{self.look.card}" padding="0">'

    def _section(self, inner: str) -> str:
        return f"{self._section_open()}{inner}</mj-section>"

    def _logo(self, words: str) -> str:
        """The logo, and beside it the one that takes its place in the dark."""
        look = self.look
        shown = [(look.logo, "lb-light" if look.dark_logo else ""), (look.dark_logo, "lb-dark")]
        return "".join(
            f'<mj-image css-class="{kind}" src="{html.escape(url)}" alt="{words}" width="160px" />'
            for url, kind in shown
            if url and look.logo
        )

    def _mjml(self, inner: str) -> str:
        look, take = self.look, self.aside.take
        logo = self._logo(take(look.header))
        header = (
            logo
            or f'<mj-text css-class="lb-words" align="center" font-size="20px" font-weight="700">{take(look.header)}</mj-text>'
        )
        preview = f"<mj-preview>{take(self.email.preview)}</mj-preview>" if self.email.preview else ""
        lang = html.escape(self.email.language or "en")
        links = f".lb-words a:not(.lb-button) {{ color: {look.link}; }}" if look.link else ""
        sheet = _no_fields("\n".join(filter(None, [links, *self.styles])))
        own_styles = f"<mj-style>{sheet}</mj-style>" if sheet else ""
        return f"""<mjml lang="{lang}"><mj-head><mj-title>{take(self.email.subject)}</mj-title>
{preview}
<mj-attributes><mj-all font-family="{html.escape(look.font)}" color="{look.ink}" /></mj-attributes>
<mj-raw><meta name="color-scheme" content="light dark" /></mj-raw><mj-style>{DARK_STYLE}</mj-style>{own_styles}</mj-head>
<mj-body css-class="lb-page" background-color="{look.paper}" width="{look.width}px">
{self._section(f'<mj-column>{header}<mj-divider border-color="{look.accent}" border-width="3px" padding="8px 25px 12px" />{inner}</mj-column>')}
{self._section(f'<mj-column><mj-text css-class="lb-words" font-size="13px" line-height="1.5" color="#5d574c">{self._footer(take)}</mj-text></mj-column>')}
</mj-body></mjml>"""

    def _footer(self, take: object) -> str:
        assert callable(take)
        links = [
            ("unsubscribe", "unsubscribe_url"),
            ("preferences", "preferences_url"),
            ("browser", "browser_url"),
        ]
        said = " · ".join(
            f'<a href="{self.aside.raw("{{ " + name + " }}")}">{self.words[key]}</a>' for key, name in links
        )
        footer = take(self.look.footer).replace("\n", "<br />")
        return f"{footer}<br />{take(self.words['why'])}<br />{said}"

    def _own_page(self, page: str, styles: str) -> str:
        aside = self.aside
        footer = aside.put_back(self._footer(aside.take))
        foot = (
            '<div style="font:13px/1.5'
            f' {html.escape(self.look.font)};color:#5d574c;padding:16px;text-align:center">{footer}</div>'
        )
        lang = html.escape(self.email.language or "en")
        hidden = (
            "<div"
            f' style="display:none;max-height:0;overflow:hidden">{aside.put_back(aside.take(self.email.preview))}</div>'
        )
        sheet = f"<style>{_no_fields(styles)}</style>" if styles else ""
        return (
            f'<!doctype html><html lang="{lang}"><head><meta charset="utf-8" /><meta name="viewport"'
            ' content="width=device-width" />'
            f"<title>{aside.put_back(aside.take(self.email.subject))}</title>{sheet}</head><body>{hidden}{page}{foot}{PIXEL}</body></html>"
        )

    def _plain(self, parts: Sequence[str]) -> str:
        if self.context.bare:
            return "\n\n".join(parts) + "\n"
        words = self.words
        foot = (
            f"-- \n{self.look.footer}\n{words['why']}\n{words['unsubscribe']}: {{{{ unsubscribe_url }}}}\n"
            f"{words['preferences']}: {{{{ preferences_url }}}}"
        )
        head = [self.look.header] if self.look.header else []
        return "\n\n".join([*head, *parts, foot]) + "\n"
