"""In which encoding a text file is written."""

import codecs
import unicodedata
from pathlib import Path

from charset_normalizer import from_bytes

from loyalbell.storage.files.tables.problems import FileProblem

BOMS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
WESTERN, CENTRAL, TURKISH = "cp1252", "cp1250", "cp1254"
ENCODINGS = {
    "utf-8": "Unicode (UTF-8)",
    "utf-16-le": "Unicode (UTF-16)",
    "utf-16-be": "Unicode (UTF-16, big-endian)",
    WESTERN: "Western Europe, the Americas",
    CENTRAL: "Central Europe",
    TURKISH: "Turkish",
    "cp1251": "Cyrillic",
    "cp1253": "Greek",
    "cp932": "Japanese (Shift-JIS)",
    "euc_jp": "Japanese (EUC)",
    "gb18030": "Chinese, simplified",
    "big5": "Chinese, traditional",
    "euc_kr": "Korean",
}
"""What somebody may choose where we have guessed wrong."""
GUESSED = [name for name in ENCODINGS if not name.startswith("utf")]
LATIN = (WESTERN, CENTRAL, TURKISH)
AT_HOME = {"TR": TURKISH} | dict.fromkeys(("PL", "CZ", "SK", "HU", "SI", "HR", "RO", "BA", "AL"), CENTRAL)
BLOCK = 1_048_576
ENOUGH = 20_000


def encoding_of(path: Path, first: bytes, country: str = "") -> str:
    """The encoding of a text file whose start is ``first``. Raises ``FileProblem`` where it is no text."""
    for bom, encoding in BOMS:
        if first.startswith(bom):
            return encoding
    if first.startswith(b"PK\x03\x04"):
        raise FileProblem("This is a spreadsheet file, not CSV. Save it as CSV in your spreadsheet program.")
    if b"\x00" in first:
        return _wide(first)
    if _is_utf8(path):
        return "utf-8"
    return _of_old_days(_with_strange_letters(path, first), country)


def _wide(first: bytes) -> str:
    """UTF-16 without its mark: every second byte of separators and figures is zero."""
    half = len(first) // 2
    even, odd = first[0::2].count(0), first[1::2].count(0)
    little = odd > half / 10 and even < odd / 20
    if little or (even > half / 10 and odd < even / 20):
        encoding = "utf-16-le" if little else "utf-16-be"
        if all(c.isprintable() or c.isspace() for c in first[: half * 2].decode(encoding, errors="ignore")):
            return encoding
    raise FileProblem("This is not a text file. Export the table as CSV or XLSX and choose that file.")


def _is_utf8(path: Path) -> bool:
    decoder = codecs.getincrementaldecoder("utf-8")()
    with path.open("rb") as file:
        try:
            while chunk := file.read(BLOCK):
                decoder.decode(chunk)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return False
    return True


def _with_strange_letters(path: Path, first: bytes) -> bytes:
    """Lines that hold something beyond ASCII: only they tell encodings apart."""
    found, size = [], 0
    with path.open("rb") as file:
        for line in file:
            if not line.isascii():
                found.append(line[:2_000])
                size += len(found[-1])
                if size > ENOUGH:
                    break
    return b"".join(found) or first


def _of_old_days(sample: bytes, country: str) -> str:
    best = from_bytes(sample, cp_isolation=GUESSED).best()
    if best is not None and best.encoding not in LATIN:
        return str(best.encoding)
    home = AT_HOME.get(country, WESTERN)
    return min((home, *LATIN), key=lambda encoding: _oddities(sample, encoding))


def _oddities(sample: bytes, encoding: str) -> int:
    """Signs within words, such as the ³ of a Polish name that is read as if it were French."""
    text = sample.decode(encoding, errors="replace")
    return sum(
        not here.isascii() and not here.isalpha() and unicodedata.category(here) != "Pd"
        for before, here, after in zip(text, text[1:], text[2:], strict=False)
        if before.isalpha() or after.isalpha()
    )
