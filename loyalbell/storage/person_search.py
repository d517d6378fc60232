"""Finding people by words: names, emails, phone digits (SQLite's FTS5.

The index is made in migration 0002).
"""

import re

from sqlalchemy import text
from sqlalchemy.orm import Session as Reader

_PHONE_LIKE = re.compile(r"^[+()\d.\-/]*\d{3}[+()\d.\-/]*$")
_NOT_SEARCHED = re.compile(r"[\x00-\x1f\x7f\"]")
_QUERY = text(
    "SELECT rowid FROM person_search WHERE person_search MATCH :words AND rowid > :after ORDER BY rowid LIMIT"
    " :most"
)


def match_words(search: str) -> str:
    """What was typed as an FTS5 query: every word must begin a word on file.

    Empty where nothing can match.
    """
    words = []
    for typed in search.split():
        word = re.sub(r"\D", "", typed) if _PHONE_LIKE.match(typed) else _NOT_SEARCHED.sub(" ", typed)
        if any(c.isalnum() for c in word):
            words.append(f'"{word}"*')
    return " ".join(words)


def find_ids(reader: Reader, search: str, after: int, most: int) -> list[int]:
    """Ids of people that hold every word, ascending, beginning after ``after``."""
    words = match_words(search)
    if not words:
        return []
    return [row[0] for row in reader.execute(_QUERY, {"words": words, "after": after, "most": most})]
