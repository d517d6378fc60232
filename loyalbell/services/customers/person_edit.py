"""One person’s changes in one transaction: all or nothing, each noted with what it was before."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.schema import Person, PersonChange, Shop
from loyalbell.storage.webhook_events import announce


class NotKept(Exception):
    """What is wrong with what was entered, in words; nothing was changed."""


class Edit:
    """One person's changes in one transaction."""

    def __init__(self, application: Application, session: Session, person_id: int, by: str) -> None:
        self.application, self.session, self.by, self.now = application, session, by, application.clock.now()
        person = session.get(Person, person_id)
        if person is None:
            raise NotKept("This customer is no longer on file.")
        self.person, self.shop = person, session.get_one(Shop, 1)
        self.facts = PersonFacts(session, int(self.now.timestamp()))

    def note(self, what: str, before: str | None, after: str | None) -> None:
        self.session.add(
            PersonChange(
                person_id=self.person.id,
                at=self.now,
                by=self.by,
                what=what,
                before=before or None,
                after=after or None,
            )
        )

    def set(self, column: str, value: Any, what: str) -> None:
        old = getattr(self.person, column)
        if old == value:
            return
        setattr(self.person, column, value)
        self.note(what, _say(old), _say(value))


def _say(value: Any) -> str | None:
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%d}"
    return None if value is None else str(value)


def within(application: Application, person_id: int, by: str, act: Callable[[Edit], None]) -> None:
    """Carries an edit out whole or not at all. Raises ``NotKept``."""
    with application.database.transaction() as session:
        edit = Edit(application, session, person_id, by)
        try:
            act(edit)
            session.flush()
            announce(session, "customer.changed", edit.now, person=person_id)
        except ValueError as problem:
            raise NotKept(f"{str(problem)[:1].upper()}{str(problem)[1:]}.") from problem
