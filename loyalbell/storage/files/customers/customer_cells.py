"""The cells of a row of customers: what they say, and whether the row can be taken."""

import re
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from babel import Locale, UnknownLocaleError

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.money import minor_digits
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.customers.custom_columns import OwnColumns
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.records.date_cells import Birthday, When
from loyalbell.storage.records.parsers import (
    NO,
    Bad,
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
from loyalbell.storage.records.person_names import part_name

CONSENTS: dict[str, str] = {f"{channel}_agreed": channel for channel in CHANNELS}
PLAIN = (
    "first_name",
    "last_name",
    "email",
    "email_given",
    "phone",
    "chat_handle",
    "language",
    "zone",
    "street",
    "city",
    "region",
    "postal_code",
)
BIRTHDAY = ("birthday_year", "birthday_month", "birthday_day")
INSTANTS = {
    "joined": "joined_at",
    "closed": "closed_at",
    "deceased": "deceased_at",
    "before_first": "before_first_at",
    "before_last": "before_last_at",
}
SUMS = ("before_orders", "before_minor")
NAMED_BY = ("id", "email", "phone", "chat_handle")
LONGEST_TAG = 60
_COMPANION = re.compile(r"^(?P<name>[^(]+?)\s*(?:\((?P<about>[^)]*)\))?$")


class Zone(CellReader):
    known = available_timezones()

    def read(self, text: str) -> str:
        if text not in self.known:
            raise Unreadable(text, "is not a time zone such as America/New_York")
        return ZoneInfo(text).key


class Language(CellReader):
    """A language tag (BCP 47)."""

    def read(self, text: str) -> str:
        try:
            return str(Locale.parse(text.replace("_", "-"), sep="-")).replace("_", "-")
        except (UnknownLocaleError, ValueError):
            raise Unreadable(text, "is not a language code such as en or es-MX") from None


class Tags(CellReader):
    """Tags with a semicolon or a comma between them."""

    def read(self, text: str) -> list[str]:
        found = [" ".join(one.split()) for one in re.split(r"[;,]", text)]
        for tag in found:
            if len(tag) > LONGEST_TAG:
                raise Unreadable(tag, f"is longer than {LONGEST_TAG} characters, too long for a tag")
        return list(dict.fromkeys(tag for tag in found if tag))


Cared = tuple[str, str | None, int | None, int | None, int | None]


class CaresFor(CellReader):
    """``Biscuit (dog, 2019-05-04); Pepper``: name, kind and birthday, of which only the name is needed."""

    def __init__(self, day_first: bool, this_year: int | None = None) -> None:
        super().__init__()
        self.birthday = Birthday(day_first, this_year)

    def read(self, text: str) -> list[Cared]:
        return [self._one(part.strip()) for part in text.split(";") if part.strip()]

    def _one(self, text: str) -> Cared:
        found = _COMPANION.match(text)
        if found is None or len(text) > 200:
            raise Unreadable(
                text, "is not read as a name with kind and birthday, such as Biscuit (dog, 2019-05-04)"
            )
        kind: str | None = None
        day: tuple[int | None, int | None, int | None] = (None, None, None)
        for part in (one.strip() for one in (found["about"] or "").split(",")):
            if part[:1].isdecimal() or part[:2] == "--":
                day = self.birthday.read(part)
            elif part:
                kind = part
        year, month, on = day
        return found["name"].strip(), kind, year, month, on


class Ended(CellReader):
    """Since when somebody is closed or deceased. What cannot be read as a time says that they are: nobody is
    written to because of a cell that we did not understand.
    """

    def __init__(self, when: When, now: int) -> None:
        super().__init__()
        self.when, self.now = when, now

    def read(self, text: str) -> int | None:
        known = text.casefold()
        if known in NO:
            return None
        value = self.when[text]
        return self.now if isinstance(value, Bad) else value


class RowReader:
    """Turns a row into values by target, or a reason why not.

    A cell that cannot be used is left out; only a row that names nobody is refused.
    """

    def __init__(
        self, columns: ColumnMap, country: str, currency: str, now: datetime, own: OwnColumns
    ) -> None:
        self.columns, self.country = columns.columns, country
        self.now, self.today = int(now.timestamp()), now.astimezone(ZoneInfo(columns.zone)).date()
        words, when = Text(), When(columns.zone, columns.day_first)
        special: dict[str, CellReader] = {
            "email": Email(),
            "phone": Phone(country),
            "language": Language(),
            "zone": Zone(),
            "birthday": Birthday(columns.day_first, self.today.year),
            "tags": Tags(),
            "cares_for": CaresFor(columns.day_first, self.today.year),
            "joined": when,
            "agreed_at": when,
            "before_first": when,
            "before_last": when,
            "before_orders": Quantity(columns.mark),
            "before_total": Money(minor_digits(currency), columns.mark),
            "closed": Ended(when, self.now),
            "deceased": Ended(when, self.now),
            **{name: YesNo() for name in CONSENTS},
            **own.readers,
        }
        self.readers = {target: special.get(target, words) for target in self.columns}
        columns.rules.give(self.readers)

    def read(self, cells: list[str]) -> tuple[dict[str, Any] | Problem, list[Problem]]:
        """The values, or why the row is refused; and the cells that are left out."""
        values, bad = values_of(self.readers, self.columns, cells)
        left_out = [Problem(cell.reason, cell.cause, target, cell.value) for target, cell in bad.items()]
        if "email" in values:
            written = cells[self.columns["email"]].strip()
            values["email_given"] = written if written != values["email"] else None
        found = checked(values, self.today, self.country)
        if isinstance(found, dict) and "birthday" in found:
            year, month, day = found.pop("birthday")
            left_out.append(
                Problem(
                    f"a birthday in the future ({year}-{month:02}-{day:02})",
                    "is a birthday in the future",
                    "birthday",
                    cells[self.columns["birthday"]].strip(),
                )
            )
        if isinstance(found, str):
            reason = left_out[0].text if left_out and bad.keys() & set(NAMED_BY) else found
            return Problem(reason, found if reason == found else left_out[0].cause), []
        return found, left_out


def checked(values: dict[str, Any], today: date, country: str = "") -> dict[str, Any] | str:
    """Facts of one customer made ready to keep, or why they cannot be kept. A birthday in the future stays
    under its own name.
    """
    if not values.keys() & set(NAMED_BY):
        return "no customer id, email or phone in this row"
    if "before_total" in values:
        values["before_minor"] = values.pop("before_total")
    if "before_orders" in values:
        values["before_orders"] //= 1_000
    for target in ("full_name", "last_first"):
        if target in values:
            first, last = part_name(values.pop(target), country, target == "last_first")
            if first:
                values.setdefault("first_name", first)
            if last:
                values.setdefault("last_name", last)
    year, month, day = values.get("birthday") or (None, None, None)
    if month is not None and not (year and (year, month, day) > (today.year, today.month, today.day)):
        del values["birthday"]
        values |= dict(zip(BIRTHDAY, (year, month, day), strict=True))
    return values
