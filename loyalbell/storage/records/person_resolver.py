"""Who is on file, by what a record may name them with."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from loyalbell.storage.schema import ExternalId, Person

SOURCE = "import"
MANY = 500


@dataclass
class PersonResolver:
    """Person ids by external id, email (in small letters), phone and chat handle."""

    by_id: dict[str, int] = field(default_factory=dict)
    by_email: dict[str, int] = field(default_factory=dict)
    by_phone: dict[str, int] = field(default_factory=dict)
    by_chat: dict[str, int] = field(default_factory=dict)

    def find(self, values: dict[str, Any]) -> int | None:
        """A record that gives an id means that id alone.

        Else its email, else its phone, else its chat handle.
        """
        if values.get("id") is not None:
            return self.by_id.get(values["id"])
        if values.get("email") is not None and values["email"].lower() in self.by_email:
            return self.by_email[values["email"].lower()]
        found = self.by_phone.get(values.get("phone") or "")
        return found if found is not None else self.by_chat.get(values.get("chat_handle") or "")

    def add(self, values: dict[str, Any], person_id: int) -> None:
        for name, index in self.indexes():
            if values.get(name) is not None:
                index.setdefault(values[name].lower() if name == "email" else values[name], person_id)

    def indexes(self) -> tuple[tuple[str, dict[str, int]], ...]:
        return (
            ("id", self.by_id),
            ("email", self.by_email),
            ("phone", self.by_phone),
            ("chat_handle", self.by_chat),
        )


def next_number(session: Session, column: InstrumentedAttribute[int]) -> int:
    """The lowest number above all that a table has given out."""
    return 1 + (session.scalar(select(func.max(column))) or 0)


def load_person_resolver(session: Session) -> PersonResolver:
    """Everyone on file. Where two people share an address it means the first of them."""
    known = PersonResolver()
    known.by_id = dict(
        session.execute(
            select(ExternalId.value, ExternalId.person_id).where(ExternalId.source == SOURCE)
        ).all()
    )
    for person_id, email, phone, chat in session.execute(
        select(Person.id, Person.email, Person.phone, Person.chat_handle).order_by(Person.id)
    ):
        known.add({"email": email, "phone": phone, "chat_handle": chat}, person_id)
    return known


def known_of(session: Session, records: Iterable[dict[str, Any]]) -> PersonResolver:
    """Those whom a few records name, without reading everyone."""
    named = list(records)
    known = PersonResolver()
    for name, index in known.indexes():
        wanted = sorted({values[name] for values in named if values.get(name) is not None})
        if name == "email":
            wanted = sorted({email.lower() for email in wanted})
        for start in range(0, len(wanted), MANY):
            some = wanted[start : start + MANY]
            if name == "id":
                query = select(ExternalId.value, ExternalId.person_id).where(
                    ExternalId.source == SOURCE, ExternalId.value.in_(some)
                )
            else:
                column = func.lower(Person.email) if name == "email" else getattr(Person, name)
                query = select(column, Person.id).where(column.in_(some)).order_by(Person.id.desc())
            index.update({value: person_id for value, person_id in session.execute(query)})
    return known
