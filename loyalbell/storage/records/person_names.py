"""A whole name parted into first and last name, as its language writes it."""

from nameparser import HumanName

from loyalbell.storage.schema.people import FAMILY_FIRST_LETTERS

FAMILY_FIRST = frozenset(("JP", "CN", "TW", "KR", "HU", "VN"))
"""Where the family name usually stands first (CLDR, personNames, nameOrderLocales)."""


def part_name(whole: str, country: str = "", last_first: bool = False) -> tuple[str, str]:
    """First and last name. A comma means that the last name came first, wherever the shop is; titles and
    what follows a name (*Jr.*) are left out. ``last_first`` where somebody said that it always does.
    """
    whole = " ".join(whole.split())
    if last_first and "," not in whole and not FAMILY_FIRST_LETTERS.search(whole):
        names, _, given = whole.rpartition(" ")
        return given, names
    if FAMILY_FIRST_LETTERS.search(whole):
        return _part_cjk(whole)
    if country in FAMILY_FIRST and "," not in whole and " " in whole:
        family, _, given = whole.partition(" ")
        return given, family
    name = HumanName(whole)
    first, last = f"{name.first} {name.middle}".strip(), name.last
    if not first and not last:
        return whole, ""
    if name.title and not (first and last):
        return "", first or last  # *Mr. Smith*
    return (first, last) if first else (last, "")


def _part_cjk(whole: str) -> tuple[str, str]:
    """Family name first, where a blank tells them apart; a name without one stays whole."""
    family, _, given = whole.replace("\u3000", " ").partition(" ")
    return (given.strip(), family) if given.strip() else (family, "")
