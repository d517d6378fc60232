"""What spam filters dislike, by rules of our own: used where no filter is installed that could be asked."""

import html
import re
from collections.abc import Callable
from dataclasses import dataclass

ENOUGH = 5.0
_SHOUT = re.compile(r"\b[A-Z]{4,}\b")
_PROMISES = re.compile(
    r"\b(100 ?% free|act now|guaranteed|no obligation|risk[- ]free|winner|cash bonus|limited time|click here|"
    r"order now|buy now|urgent|congratulations|double your)\b",
    re.IGNORECASE,
)
_SHORTENED = re.compile(r"https?://(\d{1,3}(\.\d{1,3}){3}|[^/\s\"]*@)")


@dataclass(frozen=True)
class Parts:
    """An email as a filter sees it; ``links`` are where they lead."""

    subject: str
    html: str
    text: str
    pictures: int
    links: tuple[str, ...]


@dataclass(frozen=True)
class Sign:
    points: float
    words: str


def _shouting(text: str) -> bool:
    words = re.findall(r"\b\w+\b", text)
    return len(words) > 3 and len(_SHOUT.findall(text)) > len(words) / 4


def _words(page: str) -> str:
    """The words of a page."""
    plain = re.sub(r"<(style|title|head)\b.*?</\1>", " ", page, flags=re.IGNORECASE | re.DOTALL)
    return html.unescape(re.sub(r"<[^>]*>", " ", plain))


def _promises(mail: Parts) -> set[str]:
    """The phrases known from spam that are in it, each once."""
    said = f"{mail.subject} {mail.text} {_words(mail.html)}"
    return {found.casefold() for found in _PROMISES.findall(said)}


RULES: tuple[tuple[float, str, Callable[[Parts], bool]], ...] = (
    (
        2.0,
        "the subject is written in capitals",
        lambda mail: mail.subject.isupper() and len(mail.subject) > 8,
    ),
    (
        1.0,
        "the subject has several exclamation or dollar marks",
        lambda mail: len(re.findall(r"[!$€£]", mail.subject)) > 2,
    ),
    (
        1.0,
        "the subject begins with Re: or Fwd:, and it is not a reply",
        lambda mail: bool(re.match(r"(re|fwd?):", mail.subject, re.IGNORECASE)),
    ),
    (1.5, "many words are in capitals", lambda mail: _shouting(mail.text or _words(mail.html))),
    (
        1.0,
        "several exclamation marks in a row",
        lambda mail: bool(re.search(r"!\s?!", f"{mail.text} {_words(mail.html)}")),
    ),
    (
        1.0,
        "phrases that filters know from spam",
        lambda mail: bool(_promises(mail)),
    ),
    (1.0, "several such phrases", lambda mail: len(_promises(mail)) > 2),
    (
        2.0,
        "hardly any words beside the pictures",
        lambda mail: mail.pictures > 0 and len(mail.text) < 200 * mail.pictures,
    ),
    (
        1.5,
        "links to bare numbers or with a name before the host",
        lambda mail: any(_SHORTENED.match(link) for link in mail.links),
    ),
    (1.0, "more than twenty links", lambda mail: len(mail.links) > 20),
    (1.0, "there is no plain text", lambda mail: not mail.text.strip()),
    (1.0, "the page is longer than 100 KB", lambda mail: len(mail.html) > 100_000),
)


def signs(mail: Parts) -> list[Sign]:
    """The rules that hold; their points add up to the score, of which ``ENOUGH`` is spam to most filters."""
    return [Sign(points, words) for points, words, holds in RULES if holds(mail)]
