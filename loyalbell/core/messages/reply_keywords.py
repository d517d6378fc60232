"""What an answer means: stop, start again, help, a machine's reply, or words for a person."""

import re
import unicodedata
from collections.abc import Mapping
from typing import Literal

Kind = Literal["stop", "start", "help", "auto-reply", "answer"]
STOP = {
    "en": (
        "stop",
        "stopall",
        "stop all",
        "unsubscribe",
        "cancel",
        "end",
        "quit",
        "optout",
        "opt out",
        "revoke",
        "remove me",
    ),
    "es": ("alto", "parar", "baja", "cancelar", "terminar", "detener", "salir"),
    "fr": ("arret", "arreter", "stopper", "desabonner", "desinscrire"),
    "de": ("stopp", "abmelden", "abbestellen", "ende", "beenden"),
    "pt": ("pare", "parar", "sair", "cancelar", "remover"),
    "it": ("ferma", "fermare", "basta", "cancella", "disiscrivi"),
    "nl": ("stoppen", "afmelden", "uitschrijven"),
}
START = {
    "en": ("start", "unstop", "subscribe", "yes start", "resume"),
    "es": ("empezar", "inicio", "iniciar", "reanudar"),
    "fr": ("reprendre", "commencer"),
    "de": ("anmelden", "starten"),
    "pt": ("comecar", "iniciar"),
    "it": ("inizia",),
    "nl": ("aanmelden",),
}
HELP = {
    "en": ("help", "info"),
    "es": ("ayuda",),
    "fr": ("aide",),
    "de": ("hilfe",),
    "pt": ("ajuda",),
    "it": ("aiuto",),
    "nl": ("hulp",),
}
_SETS: tuple[tuple[Kind, Mapping[str, tuple[str, ...]]], ...] = (
    ("stop", STOP),
    ("start", START),
    ("help", HELP),
)
LONGEST_KEYWORD = 200
_QUOTE = re.compile(r"^(>|On .{5,200} wrote:$|-{2,} ?Original|_{5,}|From: )", re.MULTILINE)


def plain_words(text: str) -> str:
    """Small letters without accents, marks and spare spaces."""
    bare = "".join(c for c in unicodedata.normalize("NFKD", text.lower()) if not unicodedata.combining(c))
    return " ".join(re.sub(r"[^\w\s]", " ", bare).split())


def keyword(text: str) -> Kind:
    """The word a whole answer consists of, politeness apart; *stop* also where it begins a short answer.

    In doubt an answer goes to a person, except that a doubtful stop is a stop.
    """
    if len(text) > LONGEST_KEYWORD:
        return "answer"
    words = plain_words(text).removeprefix("please ").removesuffix(" please").removesuffix(" thanks")
    for kind, by_language in _SETS:
        if any(words in given for given in by_language.values()):
            return kind
    first = words.split(" ")[0] if words else ""
    if first in ("stop", "unsubscribe", "alto", "arret") and len(words.split()) <= 6:
        return "stop"
    return "answer"


def is_automatic(headers: Mapping[str, str], subject: str = "") -> bool:
    """Whether a machine answered (RFC 3834 section 5; the rest is common practice, no source)."""
    given = {name.lower(): value.lower() for name, value in headers.items()}
    if given.get("auto-submitted", "no").split(";")[0].strip() != "no":
        return True
    if "x-autoreply" in given or "x-autorespond" in given or given.get("x-auto-response-suppress"):
        return True
    if given.get("precedence", "") in ("bulk", "auto_reply", "junk"):
        return True
    starts = (
        "automatic reply",
        "auto:",
        "out of office",
        "autoreply",
        "abwesenheit",
        "respuesta automatica",
        "reponse automatique",
    )
    return plain_words(subject[:LONGEST_KEYWORD]).startswith(tuple(plain_words(start) for start in starts))


def newest_words(text: str) -> str:
    """An answer without what it quotes."""
    found = _QUOTE.search(text.replace("\r\n", "\n"))
    kept = text.replace("\r\n", "\n")[: found.start()] if found else text
    return kept.strip() or text.strip()
