"""Records that other programs send: taken in one transaction, each with its own result."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.customers.custom_columns import OwnColumns
from loyalbell.storage.files.customers.customer_cells import Language, Tags, Zone, checked
from loyalbell.storage.files.customers.customer_upsert import CustomerUpsert
from loyalbell.storage.files.import_outcome import Counts, Outcome
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.files.orders.order_import import OrdersIn
from loyalbell.storage.files.record_import import reader_for
from loyalbell.storage.records.custom_fields import check_value
from loyalbell.storage.records.date_cells import Birthday, When
from loyalbell.storage.records.kinds import RECORDS
from loyalbell.storage.records.parsers import Bad, CellReader, Email, Phone
from loyalbell.storage.records.person_resolver import known_of
from loyalbell.storage.records.upsert import Upsert
from loyalbell.storage.schema import ConsentEntry, CustomField, ExternalId, Shop

Values = dict[str, Any]
Numbered = tuple[int, Values]
ORDER_COLUMNS = (
    "order_id",
    "customer_id",
    "email",
    "phone",
    "placed",
    "department",
    "location",
    "staff",
    "in_person",
    "confirmed_at",
    "shipped_at",
    "delivered_at",
    "cancelled_at",
    "refunded_at",
    "tracking",
    "tracking_url",
    "total",
    "discount",
    "refunded",
    "item_id",
    "item",
    "category",
    "quantity",
    "line_total",
    "line_discount",
)


@dataclass
class Pushed:
    """``refused`` are (place in what was sent, from 0, and the reason)."""

    created: int = 0
    changed: int = 0
    unchanged: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)


class _Refusals:
    """What the import of orders tells of rows it cannot take: the first reason of each order counts."""

    def __init__(self) -> None:
        self.outcome = Outcome()
        self.reasons: dict[int, str] = {}

    def add(self, number: int, reason: str | Problem, cells: list[str]) -> None:
        self.reasons.setdefault(number, Problem.of(reason).text)

    def leave_out(self, number: int, problem: Problem, cells: list[str]) -> None:
        """Whoever sends an order by the interface can mend it: nothing is left out in silence."""
        self.add(number, problem, cells)


class ApiIngest:
    """One request's records, in the transaction of ``session``."""

    def __init__(self, application: Application, session: Session, source: str) -> None:
        self.session, self.source, self.now = session, source, application.clock.now()
        shop = session.get_one(Shop, 1)
        self.zone, self.country, self.currency = shop.zone, shop.country, shop.currency
        self.columns = ColumnMap({}, self.zone)

    def people(self, records: Sequence[Values]) -> Pushed:
        readers: dict[str, CellReader] = {
            "email": Email(),
            "phone": Phone(self.country),
            "language": Language(),
            "zone": Zone(),
            "birthday": Birthday(False),
            "joined": When(self.zone, False),
            "closed": When(self.zone, False),
            "deceased": When(self.zone, False),
        }
        fields = {one.name.casefold(): one for one in self.session.scalars(select(CustomField))}
        pushed, good = Pushed(), []
        for at, record in enumerate(records):
            values = self._person(record, readers, fields)
            if isinstance(values, str):
                pushed.refused.append((at, values))
            else:
                good.append((at, values))
        self._take_people(good, pushed)
        return pushed

    def _person(
        self, record: Values, readers: Mapping[str, CellReader], fields: Mapping[str, CustomField]
    ) -> Values | str:
        values: Values = {}
        for name, given in record.items():
            if name in ("fields", "dates", "ids", "consents", "companions", "tags") or given is None:
                continue
            value = readers[name][given] if name in readers else clean(given)
            if isinstance(value, Bad):
                return value.reason
            if value is not None:
                values[name] = value
        if "email" in values and record["email"].strip() != values["email"]:
            values["email_given"] = record["email"].strip()
        try:
            values |= self._own(record, fields)
        except ValueError as problem:
            return str(problem)
        today = self.now.astimezone(ZoneInfo(self.zone)).date()
        found = checked(values, today, self.country)
        if isinstance(found, str):
            return found.replace("in this row", "given")
        if "birthday" in found:
            year, month, day = found["birthday"]
            return f"a birthday in the future ({year}-{month:02}-{day:02})"
        return found

    def _own(self, record: Values, fields: Mapping[str, CustomField]) -> Values:
        """The shop's own facts, under the names that the taking of customers knows them by."""
        found: Values = {}
        for name, value in (record.get("fields") or {}).items():
            if name.casefold() not in fields:
                raise ValueError(f"there is no field “{name}”; make it under Fields and dates first")
            known = fields[name.casefold()]
            found[f"field:{known.id}"] = None if value is None else check_value(known, value)
        birthday = Birthday(False)
        for name, day in (record.get("dates") or {}).items():
            found[f"yearly:{clean(name)}"] = None if day is None else birthday.read(day.strip())
        for source, value in (record.get("ids") or {}).items():
            found[f"id:{clean(source)}"] = clean(value)
        if record.get("tags"):
            found["tags"] = Tags().read("; ".join(record["tags"]))
        if record.get("companions"):
            found["cares_for"] = [_cared(one, birthday) for one in record["companions"]]
        if record.get("consents"):
            found["consents"] = [self._consent(one) for one in record["consents"]]
        return found

    def _consent(self, one: Values) -> Values:
        at = When(self.zone, False).read(one["at"].strip()) if one.get("at") else int(self.now.timestamp())
        if at > int(self.now.timestamp()):
            raise ValueError("a consent cannot come from the future")
        return {
            "channel": one["channel"],
            "state": one["state"],
            "at": at,
            "source": clean(one.get("source")) or self.source,
            "wording": clean(one.get("wording")),
        }

    def _take_people(self, good: list[Numbered], pushed: Pushed) -> None:
        targets = {name for _, values in good for name in values if ":" in name}
        own = OwnColumns(self.session, ColumnMap(dict.fromkeys(targets, 0), self.zone), self.now, None, True)
        taking = CustomerUpsert(
            self.session,
            known_of(self.session, [values for _, values in good]),
            own,
            self.now,
            None,
            True,
            self.source,
        )
        counts = Counts()
        consents = {at: values.pop("consents") for at, values in good if "consents" in values}
        named = {at: dict(values) for at, values in good}
        for at, reason in taking.take(good, counts):
            pushed.refused.append((at, reason.replace("row", "number").replace(" of this file", "")))
            consents.pop(at, None)
        pushed.created, pushed.changed, pushed.unchanged = counts.created, counts.changed, counts.unchanged
        self._say_consents({taking.known.find(named[at]) or 0: said for at, said in consents.items()})

    def _say_consents(self, said: Mapping[int, Sequence[Values]]) -> None:
        """Added to the log where it is news. A refusal gives way only to a later word with its own date."""
        made = []
        for person_id, words in said.items():
            for word in words:
                at = datetime.fromtimestamp(word["at"], self.now.tzinfo)
                newest = self.session.execute(
                    select(ConsentEntry.state, ConsentEntry.at)
                    .where(ConsentEntry.person_id == person_id, ConsentEntry.channel == word["channel"])
                    .order_by(ConsentEntry.at.desc(), ConsentEntry.id.desc())
                    .limit(1)
                ).first()
                if newest and (newest[0] == word["state"] or newest[1] >= at):
                    continue
                entry = ConsentEntry(person_id=person_id, **(word | {"at": at}))
                self.session.add(entry)
                self.session.flush()
                made.append(entry.id)

    def orders(self, records: Sequence[Values]) -> Pushed:
        refused, seen = _Refusals(), dict[str, int]()
        rows = []
        for at, record in enumerate(records):
            first = seen.setdefault(str(clean(record["external_id"])), at)
            if first != at:
                refused.add(at, f"the same order as number {first}", [])
            else:
                rows += [(at, cells) for cells in _order_rows(record)]
        columns = ColumnMap({name: at for at, name in enumerate(ORDER_COLUMNS)}, self.zone)
        named = [_whose(record, self.country) for record in records]
        work = OrdersIn(
            self.session, columns, self.country, self.currency, None, True, known_of(self.session, named)
        )
        outcome = work.run(lambda: iter(rows), refused, lambda row: False)
        counts = outcome.counts
        return Pushed(counts.created, counts.changed, counts.unchanged, sorted(refused.reasons.items()))

    def records(self, kind: str, records: Sequence[Values]) -> Pushed:
        """Visits, appointments, memberships, events and items."""
        known_kind, pushed, good = RECORDS[kind], Pushed(), []
        readers = {
            target.name: reader_for(target.reads, self.columns, self.country, self.currency)
            for target in known_kind.targets
            if target.reads in ("when", "day", "money", "email", "phone", "link")
        }
        for at, record in enumerate(records):
            values = _read(record, readers)
            if isinstance(values, str):
                pushed.refused.append((at, values))
            else:
                good.append((at, values))
        known = known_of(self.session, [values for _, values in good])
        take = Upsert(self.session, known_kind, known, int(self.now.timestamp()), source=self.source)
        taken = take.take(good)
        pushed.created, pushed.changed, pushed.unchanged = (
            len(taken.created),
            len(taken.changed),
            taken.unchanged,
        )
        pushed.refused += [(at, reason.replace("in this row", "given")) for at, reason in taken.refused]
        pushed.refused.sort()
        return pushed


def clean(text: Any) -> Any:
    """A text without control characters and outer white space, ``None`` where nothing is left.

    Others as they are.
    """
    if not isinstance(text, str):
        return text
    kept = "".join(c for c in text if c.isprintable() or c == "\n").strip()
    return kept.encode("utf-8", "ignore").decode() or None


def _read(record: Values, readers: Mapping[str, CellReader]) -> Values | str:
    values: Values = {}
    for name, given in record.items():
        value = readers[name][given] if name in readers and isinstance(given, str) else clean(given)
        if isinstance(value, Bad):
            return value.reason
        if value is not None:
            values[name] = value
    return values


def _cared(one: Values, birthday: Birthday) -> tuple[Any, ...]:
    name = clean(one["name"])
    if not name:
        raise ValueError("a companion needs a name")
    year, month, day = birthday.read(one["birthday"].strip()) if one.get("birthday") else (None, None, None)
    return name, clean(one.get("kind")), year, month, day


def named_in(session: Session, records: Sequence[Values]) -> list[int | None]:
    """Whom each record names, by person id."""
    country = session.get_one(Shop, 1).country
    named = [_whose(record, country) for record in records]
    known = known_of(session, named)
    return [known.find(one) for one in named]


def _whose(record: Values, country: str) -> Values:
    """How a record names its customer, as they are kept in the book; what cannot be read names nobody."""
    found: Values = {"id": clean(record.get("id"))}
    for name, reader in (("email", Email()), ("phone", Phone(country))):
        value = reader[record[name]] if record.get(name) else None
        found[name] = None if isinstance(value, Bad) else value
    return found


def _order_rows(record: Values) -> list[list[str]]:
    """An order as rows of text, one a line, as a file would hold it."""
    start = {"order_id": record["external_id"], "customer_id": record.get("id")} | record
    rows = []
    for line in record.get("lines") or [{}]:
        facts = start | {
            f"line_{name}" if name in ("total", "discount") else name: value for name, value in line.items()
        }
        rows.append([_text(facts.get(name)) for name in ORDER_COLUMNS])
    return rows


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(clean(value) or "")


def take_records(
    application: Application, session: Session, kind: str, records: Sequence[Values], source: str
) -> Pushed:
    """Takes records of one kind: ``people``, ``orders``, or a kind of ``RECORDS``."""
    pushing = ApiIngest(application, session, source)
    acts: dict[str, Callable[[Sequence[Values]], Pushed]] = {
        "people": pushing.people,
        "orders": pushing.orders,
    }
    if kind in acts:
        return acts[kind](records)
    return pushing.records(kind, records)


def external_known(session: Session, external_id: str) -> int | None:
    """The person that files and programs know by this id."""
    return session.scalar(
        select(ExternalId.person_id).where(ExternalId.source == "import", ExternalId.value == external_id)
    )


def person_with_id(application: Application, external_id: str) -> int | None:
    """The number of the person whom other programs know by this id."""
    with application.database.reading() as session:
        return external_known(session, external_id)
