"""What headings are called: abbreviations, and the words of several languages."""

import re
import unicodedata
from functools import cache
from pathlib import Path

SHORT = {
    "cust": "customer",
    "no": "number",
    "nr": "number",
    "num": "number",
    "nbr": "number",
    "numero": "number",
    "mob": "mobile",
    "tel": "phone",
    "tlf": "phone",
    "telno": "phone number",
    "ph": "phone",
    "addr": "address",
    "qty": "quantity",
    "amt": "amount",
    "desc": "description",
    "dept": "department",
    "inv": "invoice",
    "ord": "order",
    "appt": "appointment",
    "fname": "first name",
    "lname": "last name",
    "firstname": "first name",
    "lastname": "last name",
    "bday": "birthday",
    "bdate": "birth date",
    "birthdate": "birth date",
    "kd": "kunden",
    "kdnr": "kundennummer",
    "txt": "text",
    "ok": "agreed",
    "optin": "opt in",
    "pct": "percent",
}

WORDS_FILE = Path(__file__).with_suffix(".txt")


@cache
def words() -> dict[str, tuple[str, ...]]:
    """Further headings by target, from the file beside this module."""
    found: dict[str, str] = {}
    target = ""
    for line in WORDS_FILE.read_text(encoding="utf-8").splitlines():
        if line.endswith(":") and not line.startswith((" ", "#")):
            target = line[:-1]
            found[target] = ""
        elif target and line.strip():
            found[target] += " " + line.strip()
    return {name: tuple(filter(None, map(str.strip, text.split(";")))) for name, text in found.items()}


@cache
def plain_heading(heading: str) -> str:
    """A heading in small letters, without marks and accents, abbreviations written out."""
    marked = heading.replace("#", " number ").replace("№", " number ").replace("º", " ").replace("°", " ")
    bare = "".join(
        c for c in unicodedata.normalize("NFKD", plain_words(marked.replace("ß", "ss"))) if not _is_accent(c)
    )
    words = _initials_together(unicodedata.normalize("NFC", bare).split())
    return " ".join(SHORT.get(word, word) for word in words)


def plain_words(text: str) -> str:
    """Words in small letters without marks between them."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", text)
    return " ".join(re.sub(r"[^\w]+|_", " ", spaced.casefold()).split())


def _is_accent(c: str) -> bool:
    """Marks over letters; those of other scripts (the voicing of kana) are letters of their own."""
    return "\u0300" <= c <= "\u036f"


def _initials_together(words: list[str]) -> list[str]:
    """``d o b`` is ``dob``."""
    if len(words) > 1 and all(len(word) == 1 and word.isalpha() for word in words):
        return ["".join(words)]
    return words


@cache
def names_of(target: str, own: tuple[str, ...]) -> tuple[str, ...]:
    """All headings that a target goes by, its own English ones first, as ``plain_heading`` writes them."""
    return tuple(dict.fromkeys(map(plain_heading, (*own, *words().get(target, ())))))
