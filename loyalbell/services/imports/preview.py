"""The first rows of a file as the people, orders or records that they would become."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from loyalbell.core.history.money import say_money
from loyalbell.services.application import Application
from loyalbell.services.imports import files
from loyalbell.services.imports.mapping import column_map
from loyalbell.storage.files.columns.agreed_since import FROM_NOW_ON
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.columns.day_and_time import PARTNERS, DayAndTime
from loyalbell.storage.files.columns.file_targets import TARGETS
from loyalbell.storage.files.columns.money_columns import line_total
from loyalbell.storage.files.customers.custom_columns import OwnColumns, own_targets
from loyalbell.storage.files.customers.customer_cells import CONSENTS, RowReader
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.files.record_import import reader_for
from loyalbell.storage.records.parsers import values_of
from loyalbell.storage.schema import ImportRun

SHOWN, LOOKED_AT = 3, 40
MONEY = ("total", "discount", "refunded", "unit_price", "line_total", "line_discount", "price", "margin")
HIDDEN = frozenset(
    ("first_name", "last_name", "email_given", "birthday_year", "birthday_month", "birthday_day")
) | {*PARTNERS.values()}
MORE_LABELS = {"before_minor": "spent in all, before", "before_orders": "purchases before"}


@dataclass
class Shown:
    """One record to be: what it is called, its facts as (label, words), and what is wrong with it."""

    title: str
    facts: list[tuple[str, str]] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


def preview(application: Application, run: ImportRun) -> list[Shown]:
    """A few records of a file. Raises ``FileProblem``."""
    shape = files.shape(application, run)
    rows = files.rows_of(files.file_of(application, run), shape, LOOKED_AT)
    with application.database.reading() as session:
        reading = _Reading(application, session, run, column_map(run, shape.headings))
        makers = {"customers": reading.people, "orders": reading.orders}
        return list(makers.get(run.kind, reading.records)(rows))[:SHOWN]


class _Reading:
    def __init__(
        self, application: Application, session: Session, run: ImportRun, columns: ColumnMap
    ) -> None:
        self.session, self.columns, self.now = session, columns, application.clock.now()
        shop = application.the_shop()
        self.country, self.currency = shop.country, shop.currency
        own = own_targets(session) if run.kind == "customers" else ()
        targets = (*TARGETS[run.kind], *own)
        self.labels = {target.name: target.label for target in targets} | MORE_LABELS
        self.reads = {target.name: target.reads for target in targets}
        self.joins = DayAndTime(columns.columns)

    def people(self, rows: Sequence[list[str]]) -> Iterator[Shown]:
        own = OwnColumns(self.session, self.columns, self.now, None, write=False)
        reader = RowReader(self.columns, self.country, self.currency, self.now, own)
        for cells in rows:
            values, left_out = reader.read(cells)
            if isinstance(values, Problem):
                yield Shown("Would be refused", [], [values.text])
                continue
            name = " ".join(filter(None, (values.get("first_name"), values.get("last_name"))))
            facts = self._facts({fact: value for fact, value in values.items() if fact not in CONSENTS})
            agreed = [channel for target, channel in CONSENTS.items() if values.get(target)]
            if any(target in self.columns.columns for target in CONSENTS):
                facts.append(("may be written to by", " and ".join(agreed) or "nothing"))
            if agreed and _since_is_said(self.columns):
                since = self.columns.agreed.at(values, self.now)
                facts.append(("agreed on", self._when(int(since.timestamp()))))
            yield Shown(name or "No name", facts, [problem.text for problem in left_out])

    def orders(self, rows: Sequence[list[str]]) -> Iterator[Shown]:
        """Lines of one order together."""
        found: dict[str, Shown] = {}
        for values, problems in self._read(rows):
            key = str(values.get("order_id", f"(row without an id, {len(found)})"))
            is_new = key not in found
            shown = found.setdefault(key, Shown(f"Order {key}"))
            shown.problems += problems
            if is_new:
                shown.facts += self._facts(
                    {name: value for name, value in values.items() if name not in _OF_LINES}
                )
            shown.facts += self._line(values)
        yield from found.values()

    def _line(self, values: dict[str, Any]) -> list[tuple[str, str]]:
        money = values.get("line_total")
        if money is None:
            money = line_total(*map(values.get, ("unit_price", "quantity", "line_discount")))
        name = values.get("item") or values.get("item_id")
        if money is None and name is None:
            return []
        many = f"{values.get('quantity', 1_000) / 1_000:g} × {name or 'something'}"
        return [
            (
                "line",
                many if money is None else f"{many}, {say_money(money, self.currency, country=self.country)}",
            )
        ]

    def records(self, rows: Sequence[list[str]]) -> Iterator[Shown]:
        for values, problems in self._read(rows):
            title = next((values[name] for name in _TITLES if values.get(name)), "One record")
            yield Shown(str(title), self._facts(values), problems)

    def _read(self, rows: Sequence[list[str]]) -> Iterator[tuple[dict[str, Any], list[str]]]:
        at = {name: column for name, column in self.columns.columns.items() if name not in PARTNERS.values()}
        readers = {
            name: reader_for(_reads(name, self.reads), self.columns, self.country, self.currency)
            for name in at
        }
        self.columns.rules.give(readers)
        for cells in rows:
            values, bad = values_of(readers, at, self.joins.join(cells))
            yield values, [cell.reason for cell in bad.values()]

    def _facts(self, values: dict[str, Any]) -> list[tuple[str, str]]:
        return [
            (self.labels.get(name, name).split(" (")[0], self._say(name, value))
            for name, value in values.items()
            if name not in HIDDEN and value not in (None, "", [])
        ] + self._birthday(values)

    def _birthday(self, values: dict[str, Any]) -> list[tuple[str, str]]:
        year = values.get("birthday_year")
        if not values.get("birthday_month"):
            return []
        words = f"{date(2000, values['birthday_month'], values['birthday_day']):%-d %B}"
        return [("birthday", f"{words} {year}" if year else f"{words}, year unknown")]

    def _say(self, name: str, value: Any) -> str:
        if name in MONEY or name in ("before_minor",):
            return say_money(value, self.currency, country=self.country)
        if self.reads.get(name) == "when":
            return self._when(value)
        if name == "quantity":
            return f"{value / 1_000:g}"
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, list):
            return ", ".join(str(part[0]) if isinstance(part, tuple) else str(part) for part in value)
        return str(value)

    def _when(self, seconds: int) -> str:
        moment = datetime.fromtimestamp(seconds, UTC).astimezone(ZoneInfo(self.columns.zone))
        clock = f"{moment:, %H:%M}" if (moment.hour, moment.minute) != (0, 0) else ""
        return f"{moment:%-d %b %Y}{clock}"


def _since_is_said(columns: ColumnMap) -> bool:
    """Whether somebody has said since when people agreed."""
    return columns.agreed is not FROM_NOW_ON


_OF_LINES = frozenset(
    ("order_id", "item_id", "item", "category", "quantity", "unit_price", "line_total", "line_discount")
)
_TITLES = ("name", "plan", "item", "kind", "address", "id", "email", "phone", "external_id")
_BY_NAME = {"order_id": "words", "status": "words", "birthday": "words"}


def _reads(name: str, reads: dict[str, str]) -> str:
    return _BY_NAME.get(name, reads.get(name, "words"))
