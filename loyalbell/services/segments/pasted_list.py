"""A list of addresses, numbers or customer ids that somebody pastes: who of them is on file."""

import csv
import io
import re
from dataclasses import dataclass, field

from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.segments import commands as segment_commands
from loyalbell.storage.records.parsers import Bad, Email, Phone
from loyalbell.storage.records.person_resolver import known_of
from loyalbell.storage.schema import ImportRun, Person

LONGEST, MOST = 2_000_000, 50_000
FILE_NAME = "pasted list.csv"
_PARTS = re.compile(r"[\n\r;,\t]+")
_ADDRESS = re.compile(r"[^\s<>\"']+@[^\s<>\"']+")


class NotAList(Exception):
    """What is wrong with what was pasted, in words."""


@dataclass
class PastedList:
    """``known`` are the numbers of people on file, in the order pasted; ``unknown`` addresses and numbers (as
    kept) that nobody on file has; ``odd`` what is none of them. ``twice`` counts repetitions.
    """

    known: list[int] = field(default_factory=list)
    unknown: list[tuple[str, str]] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)
    twice: int = 0


def read(application: Application, text: str) -> PastedList:
    """Finds whom a pasted text names. Raises ``NotAList``."""
    if len(text) > LONGEST:
        raise NotAList("That is too much to paste. Bring it in as a file instead.")
    parts = [" ".join(part.split()) for part in _PARTS.split(text)]
    parts = [part for part in parts if part]
    if not parts:
        raise NotAList("Paste some email addresses, phone numbers or customer ids first, one on each line.")
    if len(parts) > MOST:
        raise NotAList(f"At most {MOST:,} entries can be pasted at once. Bring a longer list in as a file.")
    country = application.the_shop().country
    named = [_named(part, Email(), Phone(country)) for part in parts]
    with application.database.reading() as session:
        resolver = known_of(session, [{kind: value} for kind, value in named])
    found, seen = PastedList(), set[object]()
    for part, (kind, value) in zip(parts, named, strict=True):
        person = resolver.find({kind: value})
        mark = person if person is not None else (kind, value.lower())
        if mark in seen:
            found.twice += 1
            continue
        seen.add(mark)
        if person is not None:
            found.known.append(person)
        elif kind == "id":
            found.odd.append(part[:80])
        else:
            found.unknown.append((kind, value))
    return found


def _named(part: str, email: Email, phone: Phone) -> tuple[str, str]:
    """What a part is: an address (also within *Ann Pell <ann@example.com>*), a number, else an id."""
    address = _ADDRESS.search(part)
    if address:
        value = email[address[0]]
        if isinstance(value, str):
            return "email", value
    number = phone[part] if sum(map(str.isdigit, part)) >= 6 else None
    return ("id", part) if number is None or isinstance(number, Bad) else ("phone", number)


def keep(application: Application, name: str, ids: list[int], by: str) -> int:
    """A fixed segment of these people; its number. Raises ``NotAList``."""
    if not ids:
        raise NotAList("Nobody on this list is on file yet.")
    name = " ".join(name.split())[:120] or "Pasted list"
    return segment_commands.keep_fixed(application, name, tuple(sorted(set(ids))), by)


def bring_in_unknown(
    application: Application, unknown: list[tuple[str, str]], agreed: bool, by: str
) -> ImportRun:
    """The unknown ones as an import of customers, tried out. With ``agreed`` each has agreed to be written to
    by the address pasted; since when and to what is asked there, as with every file. Raises ``NotAList``.
    """
    word = "yes" if agreed else ""
    if not unknown:
        raise NotAList("Everybody on this list is on file already.")
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["Email", "Phone", "Email consent", "SMS consent"])
    for kind, value in unknown:
        is_email = kind == "email"
        writer.writerow([value, "", word, ""] if is_email else ["", value, "", word])
    run = import_commands.begin_import(
        application, "customers", FILE_NAME, io.BytesIO(out.getvalue().encode()), by
    )
    import_commands.start(application, run.id, write=False)
    return run


def names(application: Application, ids: list[int]) -> list[Person]:
    """The first of them, to look at."""
    with application.database.reading() as session:
        return list(session.scalars(select(Person).where(Person.id.in_(ids)).order_by(Person.last_name)))
