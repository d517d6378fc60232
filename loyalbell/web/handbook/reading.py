"""Pages of the guide as HTML: Markdown by markdown-it, links and pictures led to this application."""

import re
from functools import cache
from pathlib import Path

from markdown_it import MarkdownIt

PAGES = Path(__file__).with_name("pages")
PICTURES = Path(__file__).with_name("pictures")
INDEX = "README"
_NAME = re.compile(r"^[a-z][a-z-]{0,40}$|^README$")


@cache
def names() -> tuple[str, ...]:
    """Of every page, the table of contents first."""
    found = sorted(file.stem for file in PAGES.glob("*.md") if file.stem != INDEX)
    return (INDEX, *found)


@cache
def page_of(name: str) -> tuple[str, str] | None:
    """Its title and its HTML; ``None`` for no such page."""
    if not _NAME.match(name) or name not in names():
        return None
    text = (PAGES / f"{name}.md").read_text()
    title = text.partition("\n")[0].lstrip("# ").strip()
    made = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    return title, _led_here(made)


@cache
def contents() -> tuple[tuple[str, str], ...]:
    """The pages in the order of the table of contents: name and title."""
    order = re.findall(r"\]\(([a-z-]+)\.md\)", (PAGES / f"{INDEX}.md").read_text())
    found = ((name, page_of(name)) for name in dict.fromkeys(order))
    return tuple((name, page[0]) for name, page in found if page is not None)


def _led_here(page: str) -> str:
    """Other pages of the guide and its pictures are served here; the reference is only named."""
    page = re.sub(r'href="([a-z-]+|README)\.md"', r'href="/handbook/\1"', page)
    page = page.replace('href="/handbook/README"', 'href="/handbook"')
    page = re.sub(r'<a href="\.\./[a-z-]+\.md">(.*?)</a>', r"\1", page)
    return re.sub(
        r'src="\.\./screenshots/([a-z-]+\.png)"', r'loading="lazy" src="/handbook/pictures/\1"', page
    )
