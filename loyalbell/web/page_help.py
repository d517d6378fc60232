"""What each page is for, in two sentences, and the page of the guide that leads through it."""

from dataclasses import dataclass
from functools import cache
from pathlib import Path

FILE = Path(__file__).with_name("page_help.txt")


@dataclass(frozen=True)
class Help:
    """``guide`` names a file of ``docs/guide`` without its ending."""

    words: str
    guide: str


@cache
def every_help() -> dict[str, Help]:
    """By the beginning of the addresses that it is for."""
    found = {}
    for line in FILE.read_text().splitlines():
        if line.startswith("/"):
            where, _, words = line.partition(": ")
            start, _, guide = where.partition(" ")
            found[start] = Help(words, guide)
    return found


def help_for(path: str) -> Help:
    """Of the longest beginning that fits; Today's where none does."""
    known = every_help()
    fitting = [start for start in known if path == start or path.startswith((f"{start}/", f"{start}?"))]
    return known[max(fitting, key=len, default="/")]
