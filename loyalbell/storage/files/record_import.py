"""Bringing visits, appointments, memberships, events, answers, items, consents and suppressions in from a
table.
"""

import json
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.columns.day_and_time import PARTNERS, DayAndTime
from loyalbell.storage.files.columns.heading_words import plain_words
from loyalbell.storage.files.import_outcome import Outcome, RefusedRows
from loyalbell.storage.files.import_problems import Problem, without_values
from loyalbell.storage.files.tables.table_reader import Row, chunks_of
from loyalbell.storage.records.date_cells import When, read_moment
from loyalbell.storage.records.kinds import CHOICES, RecordKind, Values
from loyalbell.storage.records.parsers import (
    CellReader,
    Email,
    Money,
    Phone,
    Quantity,
    Text,
    Unreadable,
    YesNo,
    values_of,
)
from loyalbell.storage.records.person_resolver import load_person_resolver
from loyalbell.storage.records.targets import WHOSE
from loyalbell.storage.records.upsert import Upsert

CHUNK = 5_000


class Day(CellReader):
    """A local day, as ISO text."""

    def __init__(self, day_first: bool) -> None:
        super().__init__()
        self.day_first = day_first

    def read(self, text: str) -> str:
        moment = read_moment(text, self.day_first)
        if not 1900 <= moment.year <= 2200:
            raise Unreadable(text, f"lies in the year {moment.year}")
        return (moment.date() if isinstance(moment, datetime) else moment).isoformat()


class Whole(CellReader):
    """A whole number from 0."""

    def read(self, text: str) -> int:
        plain = text.replace(",", "").removesuffix(".0")
        if not (plain.isascii() and plain.isdecimal()) or len(plain) > 9:
            raise Unreadable(text, "is not a whole number")
        return int(plain)


class Choice(CellReader):
    """One of some words, or of the words that mean them."""

    def __init__(self, what: str) -> None:
        super().__init__()
        self.what = what
        self.meaning = {word: choice for choice, words in CHOICES[what].items() for word in words}

    def read(self, text: str) -> str:
        found = self.meaning.get(plain_words(text))
        if found is None:
            raise Unreadable(text, f"is not a known {self.what}", f"; use {', '.join(CHOICES[self.what])}")
        return found


class Link(CellReader):
    def read(self, text: str) -> str:
        if not text.startswith(("http://", "https://")) or " " in text or len(text) > 2_000:
            raise Unreadable(text, "is not a web address beginning with https://")
        return text


class Properties(CellReader):
    """A JSON object."""

    def read(self, text: str) -> dict[str, Any]:
        try:
            found = json.loads(text)
        except json.JSONDecodeError:
            raise Unreadable(text, "is not JSON") from None
        if not isinstance(found, dict):
            raise Unreadable(text, "is not a JSON object")
        return found


class Address(CellReader):
    """An email address, a phone number, or a chat handle."""

    def __init__(self, country: str) -> None:
        super().__init__()
        self.email, self.phone = Email(), Phone(country)

    def read(self, text: str) -> str:
        if "@" in text[1:]:
            return str(self.email.read(text))
        if sum(c.isdecimal() for c in text) >= 7 and not any(c.isalpha() for c in text):
            return str(self.phone.read(text))
        return text


def reader_for(reads: str, columns: ColumnMap, country: str, currency: str) -> CellReader:
    """The reader of cells of a kind of value (see ``Target.reads``)."""
    simple: dict[str, Callable[[], CellReader]] = {
        "words": Text,
        "email": Email,
        "phone": lambda: Phone(country),
        "when": lambda: When(columns.zone, columns.day_first),
        "day": lambda: Day(columns.day_first),
        "money": lambda: Money(minor_digits(currency), columns.mark),
        "quantity": lambda: Quantity(columns.mark),
        "whole": Whole,
        "yes or no": YesNo,
        "link": Link,
        "properties": Properties,
        "address": lambda: Address(country),
    }
    return simple[reads]() if reads in simple else Choice(reads)


DISPENSABLE = frozenset(
    ("booked_at", "ends_at", "price", "margin", "link", "picture_url", "lasts_days", "best", "properties")
)
"""What a record is still true without; an unreadable end of a membership is not among them."""
NAMING = frozenset(target.name for target in WHOSE)


def _can_do_without(problem: Problem, values: Values) -> bool:
    if problem.target in NAMING:
        return bool(values.keys() & NAMING)
    return problem.target in DISPENSABLE


class RecordsIn:
    """One import of records. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self,
        session: Session,
        kind: RecordKind,
        columns: ColumnMap,
        country: str,
        currency: str,
        now: datetime,
        import_id: int,
        write: bool,
    ) -> None:
        self.columns = columns.columns
        reads = {target.name: target.reads for target in kind.targets}
        if kind.name == "suppressions":
            reads["address"] = "address"
        self.readers = {
            name: reader_for(reads[name], columns, country, currency)
            for name in self.columns
            if name not in PARTNERS.values()
        }
        columns.rules.give(self.readers)
        self.joins = DayAndTime(self.columns)
        self.read = {name: at for name, at in self.columns.items() if name in self.readers}
        self.take = Upsert(
            session,
            kind,
            load_person_resolver(session),
            int(now.timestamp()),
            write,
            import_id,
            source=f"import {import_id}",
        )

    def run(self, rows: Iterator[Row], refused: RefusedRows, progress: Callable[[int], bool]) -> Outcome:
        for chunk in chunks_of(rows, CHUNK):
            self._take(chunk, refused)
            if progress(chunk[-1][0]):
                self.take.catch_up()
        return refused.outcome

    def _take(self, chunk: list[Row], refused: RefusedRows) -> None:
        cells_of = dict(chunk)
        good = []
        for number, cells in chunk:
            values, bad = values_of(self.readers, self.read, self.joins.join(cells))
            problems = [Problem(cell.reason, cell.cause, name, cell.value) for name, cell in bad.items()]
            wrong = next((problem for problem in problems if not _can_do_without(problem, values)), None)
            if wrong is not None:
                refused.add(number, wrong, cells)
                continue
            for problem in problems:
                refused.leave_out(number, problem, cells)
            good.append((number, values))
        taken = self.take.take(good)
        for number, reason in taken.refused:
            words = reason.replace(" as number ", " as row ")
            refused.add(number, Problem(words, without_values(words)), cells_of[number])
        counts = refused.outcome.counts
        counts.created += len(taken.created)
        counts.changed += len(taken.changed)
        counts.unchanged += taken.unchanged
