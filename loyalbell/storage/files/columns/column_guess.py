"""The likeliest meaning of each column of a file that nobody has explained yet."""

import re
from collections.abc import Callable, Mapping, Sequence
from functools import cache

from babel import Locale, UnknownLocaleError
from babel.numbers import get_decimal_symbol

from loyalbell.core.clock.date_order import writes_day_first
from loyalbell.storage.files.columns.column_mapping import ColumnMap, map_problem
from loyalbell.storage.files.columns.file_targets import TARGETS
from loyalbell.storage.files.columns.heading_words import names_of, plain_heading
from loyalbell.storage.files.columns.money_columns import settle_money
from loyalbell.storage.records.date_cells import looks_day_first, read_moment
from loyalbell.storage.records.parsers import BLANKS, NO, YES
from loyalbell.storage.records.targets import Target

Samples = Sequence[Sequence[str]]


def guess_map(
    kind: str,
    headings: Sequence[str],
    samples: Samples,
    zone: str,
    country: str,
    own: Sequence[Target] = (),
    known: Mapping[str, str] | None = None,
) -> ColumnMap:
    """The likeliest meaning of each column: as somebody said before, by its heading, by words in it, by its
    first cells.

    ``own`` are the targets that only this shop has; ``known`` targets by plain heading, from earlier files.
    """
    targets = (*TARGETS[kind], *own)
    plain = [plain_heading(heading) for heading in headings]
    columns: dict[str, int] = {}
    for target in targets:
        said = [at for at, heading in enumerate(plain) if known and known.get(heading) == target.name]
        _take_first(columns, target, said)
    for shown in (plain, [plain_heading(_without_brackets(heading)) for heading in headings]):
        for target in targets:
            names = names_of(target.name, target.names)
            exact = [at for name in names for at, heading in enumerate(shown) if heading == name]
            _take_first(columns, target, [at for at in exact if _could_be(target, samples, at)])
    for _, target, at in _named_within(targets, plain):
        _take_first(columns, target, [at] if _could_be(target, samples, at) else [])
    for target in targets:
        if target.reads in ("email", "phone") or target.name in NEEDED_TIMES:
            _take_first(
                columns, target, [at for at in range(len(plain)) if _all_look(target.reads, samples, at)]
            )
    _part_names(columns, plain)
    notes = settle_money(columns, headings, samples) if kind in ("orders", "order-lines") else ()
    reads = {target.name: target.reads for target in targets} | {"birthday": "when"}
    dated = [at for name, at in columns.items() if reads[name] in ("when", "day")]
    sums = [at for name, at in columns.items() if reads[name] in ("money", "quantity")]
    return ColumnMap(
        columns,
        zone,
        looks_day_first(_cells(samples, dated), otherwise=writes_day_first(country)),
        notes,
        decimal_mark(_cells(samples, sums), country),
    )


def _without_brackets(heading: str) -> str:
    """*Total (in EUR)* is *Total*."""
    return re.sub(r"\([^)]*\)|\[[^\]]*\]", " ", heading)


def _cells(samples: Samples, columns: Sequence[int]) -> list[str]:
    return [row[at] for row in samples for at in columns if at < len(row)]


def decimal_mark(cells: Sequence[str], country: str) -> str:
    """``.`` or ``,``: as amounts with two decimals or with both marks show it, else as the country writes."""
    shown = {".": 0, ",": 0}
    for cell in cells:
        last = re.search(r"([.,])\d{1,2}\D*$", cell) or re.search(r"[.,]\d{3}([.,])\d+\D*$", cell)
        if last:
            shown[last[1]] += 1
    if shown["."] != shown[","]:
        return max(shown, key=shown.__getitem__)
    try:
        return str(get_decimal_symbol(Locale.parse(f"und_{country}")))
    except (UnknownLocaleError, ValueError):
        return "."


def _part_names(columns: dict[str, int], plain: Sequence[str]) -> None:
    """*Name* beside a first name is the last name, as *Name* beside *Vorname*."""
    if "full_name" not in columns or "first_name" not in columns or "last_name" in columns:
        return
    if plain[columns["full_name"]] in ("name", "nom", "naam", "nome"):
        columns["last_name"] = columns.pop("full_name")


@cache
def _known_headings() -> frozenset[str]:
    """All headings of all kinds, as ``plain_heading`` writes them."""
    targets = (target for targets in TARGETS.values() for target in targets)
    return frozenset(name for target in targets for name in names_of(target.name, target.names))


def is_known_heading(cell: str) -> bool:
    """Whether a cell is, word for word, what some column is called."""
    return plain_heading(cell) in _known_headings()


def recognise(headings: Sequence[str], samples: Samples, zone: str, country: str) -> str | None:
    """The kind of records that a file most likely holds; ``None`` where nothing fits."""
    best, most = None, 0.0
    for rank, kind in enumerate(TARGETS):
        guess = guess_map(kind, headings, samples, zone, country)
        if map_problem(kind, guess.columns) is not None:
            continue
        # kinds share columns: what only this kind has counts most, the commoner kinds win a tie
        score = sum(OWN_WEIGHT.get(kind, {}).get(name, 1) for name in guess.columns) - rank / 100
        if score > most:
            best, most = kind, score
    return best


OWN_WEIGHT: dict[str, dict[str, float]] = {
    "orders": {"order_id": 2, "placed": 2, "total": 3, "line_total": 3, "unit_price": 3},
    "order-lines": {"order_id": 2, "line_total": 2, "unit_price": 2},
    "customers": {
        **dict.fromkeys(("first_name", "last_name", "birthday", "street", "joined"), 2),
        **dict.fromkeys(("email_agreed", "text_agreed", "chat_agreed"), 2),
        **dict.fromkeys(("before_last", "before_first", "before_orders", "before_total"), 3),
    },
    "appointments": {"starts_at": 2, "ends_at": 3, "booked_at": 3, "state": 2},
    "visits": {"at": 2},
    "memberships": {"plan": 2, "renews_on": 3, "ended_on": 2, "term": 2},
    "events": {"kind": 2, "properties": 3},
    "answers": {"score": 4, "text": 2, "question": 3},
    "items": {"name": 1, "price": 2, "margin": 3, "in_stock": 3, "picture_url": 3, "lasts_days": 3},
    "consents": {"channel": 4, "state": 2},
    "suppressions": {"address": 1, "reason": 2},
}
"""What tells kinds of files apart."""


def _take_first(columns: dict[str, int], target: Target, candidates: Sequence[int]) -> None:
    free = [at for at in candidates if at not in columns.values()]
    if free and target.name not in columns:
        columns[target.name] = free[0]


def _named_within(targets: Sequence[Target], plain: Sequence[str]) -> list[tuple[int, Target, int]]:
    """(length of the name, target, column) for each name that stands in a heading, the longest first."""
    found = [
        (len(name), target, at)
        for target in targets
        for name in names_of(target.name, target.names)
        for at, heading in enumerate(plain)
        if _within(name, heading)
    ]
    return sorted(found, key=lambda named: -named[0])


def _within(name: str, heading: str) -> bool:
    """Whether the words of a longer name stand together in a heading."""
    return len(name) > 4 and f" {name} " in f" {heading} "


def _could_be(target: Target, samples: Samples, at: int) -> bool:
    """Whether the cells of a column do not speak against what its heading says."""
    cells = [row[at].strip() for row in samples[:50] if at < len(row)]
    cells = [cell for cell in cells if cell and cell.casefold() not in BLANKS]
    if not cells:
        return True
    if target.name in ("customer_id", "id"):
        return not all(map(_looks_like_email, cells)) and not _mostly(cells, _is_name)
    if target.name in ("first_name", "last_name", "full_name", "last_first", "customer_name"):
        return not _mostly(cells, lambda cell: "@" in cell or sum(map(str.isdigit, cell)) >= 5)
    if target.name == "item_id":
        return _mostly(cells, _is_code)
    check = FITS.get(target.reads)
    return check is None or sum(map(check, cells)) * 5 >= len(cells)


def _mostly(cells: Sequence[str], check: Callable[[str], bool]) -> bool:
    return sum(map(check, cells)) * 2 > len(cells)


def _is_name(cell: str) -> bool:
    """Two words and no figure."""
    return " " in cell and not any(map(str.isdigit, cell))


def _is_code(cell: str) -> bool:
    """One word, with a figure or all in capitals."""
    return " " not in cell and (cell.isupper() or any(map(str.isdigit, cell)))


def _has_figure(cell: str) -> bool:
    return any(map(str.isdigit, cell))


_CLOCK = re.compile(r"\d{1,2}[:.h]\d{2}|0?[.,]\d+|\d{1,2} ?[ap]m|1899|1900|\d{4}$", re.I)
FITS: dict[str, Callable[[str], bool]] = {
    "email": lambda cell: "@" in cell,
    "phone": lambda cell: sum(map(str.isdigit, cell)) >= 5,
    "yes or no": lambda cell: cell.casefold() in YES | NO,
    "money": _has_figure,
    "quantity": _has_figure,
    "when": _has_figure,
    "day": _has_figure,
    "time of day": lambda cell: _CLOCK.match(cell) is not None,
    "whole": _has_figure,
}


def _looks_like_email(cell: str) -> bool:
    return re.fullmatch(r"[^@\s]+@[^@\s]+\.[^@\s]+", cell) is not None


def _looks_like_phone(cell: str) -> bool:
    return (
        re.fullmatch(r"\+?[\d\s().\-/]{7,20}", cell) is not None
        and sum(c.isdecimal() for c in cell) >= 9
        and not _looks_like_when(cell)
    )


def _looks_like_when(cell: str) -> bool:
    try:
        read_moment(cell, day_first=True)
    except ValueError:
        try:
            read_moment(cell, day_first=False)
        except ValueError:
            return False
    return any(c in cell for c in "-/.: ")


NEEDED_TIMES = ("placed", "at", "starts_at", "started_on")
LOOKS = {
    "email": _looks_like_email,
    "phone": _looks_like_phone,
    "when": _looks_like_when,
    "day": _looks_like_when,
}


def _all_look(reads: str, samples: Samples, at: int) -> bool:
    cells = [row[at].strip() for row in samples if at < len(row) and row[at].strip()]
    return bool(cells) and all(map(LOOKS[reads], cells[:50]))
