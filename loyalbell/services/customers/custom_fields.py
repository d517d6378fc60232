"""The shop's own fields: making and changing them, and seeing whether they are any use."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.references import Kind
from loyalbell.services.application import Application
from loyalbell.services.references import refuse_if_used, uses_of
from loyalbell.storage.files.columns.file_targets import CUSTOMERS
from loyalbell.storage.files.columns.heading_words import plain_heading
from loyalbell.storage.files.export_rows import HEADINGS
from loyalbell.storage.records.custom_fields import KINDS
from loyalbell.storage.schema import (
    CustomField,
    FieldValue,
    Person,
    YearlyDate,
)
from loyalbell.storage.yearly_names import yearly_names


class CannotKeepField(Exception):
    """What is wrong with a field, in words."""


@dataclass(frozen=True)
class FieldUse:
    """``known`` of ``people`` have a value; ``used_in`` names segments and messages."""

    field: CustomField
    known: int
    people: int
    used_in: list[str]


@dataclass(frozen=True)
class DateUse:
    name: str
    known: int
    people: int
    used_in: list[str]


def in_use(application: Application) -> list[FieldUse]:
    """Every field, by name."""
    with application.database.reading() as session:
        known = dict(
            session.execute(
                select(FieldValue.field_id, func.count())
                .where(FieldValue.until.is_(None))
                .group_by(FieldValue.field_id)
            ).all()
        )
        people = session.scalar(select(func.count()).select_from(Person)) or 0
        return [
            FieldUse(field, known.get(field.id, 0), people, _uses(session, Kind.CUSTOM_FIELD, field.id))
            for field in session.scalars(select(CustomField).order_by(CustomField.name))
        ]


def dates_in_use(application: Application) -> list[DateUse]:
    """Birthdays and every named yearly date."""
    with application.database.reading() as session:
        people = session.scalar(select(func.count()).select_from(Person)) or 0
        born = session.scalar(select(func.count()).where(Person.birthday_month.is_not(None))) or 0
        counts = dict(session.execute(select(YearlyDate.name, func.count()).group_by(YearlyDate.name)).all())
        named = [
            DateUse(name, counts.get(name, 0), people, _uses(session, Kind.YEARLY_DATE, name))
            for name in yearly_names(session)
        ]
        return [DateUse("Birthday", born, people, _uses(session, Kind.YEARLY_DATE, "birthday")), *named]


def uses_by_what(application: Application) -> dict[str, list[str]]:
    """Where each date and field is used, under the names of ``asking.Asked.what``."""
    found = {f"field:{use.field.id}": use.used_in for use in in_use(application)}
    for use in dates_in_use(application):
        found["birthday" if use.name == "Birthday" else f"yearly:{use.name}"] = use.used_in
    return found


def _uses(session: Session, kind: Kind, key: int | str) -> list[str]:
    return [str(use).removeprefix("the ") for use in uses_of(session, kind, key)]


def make_field(application: Application, name: str, kind: str, choices: Sequence[str], by: str) -> int:
    """Returns the new field's id. Raises ``CannotKeepField``."""
    with application.database.transaction() as session:
        name = _checked_name(session, name, None)
        if kind not in KINDS:
            raise CannotKeepField(f"Choose a kind: {', '.join(KINDS)}.")
        field = CustomField(
            name=name, kind=kind, choices=_checked_choices(kind, choices), made_at=application.clock.now()
        )
        session.add(field)
        session.flush()
        application.note(session, by, "made a field", field=name)
        return field.id


def change_field(application: Application, field_id: int, name: str, choices: Sequence[str], by: str) -> None:
    """A choice that somebody has cannot be taken out. Raises ``CannotKeepField``."""
    with application.database.transaction() as session:
        field = session.get(CustomField, field_id)
        if field is None:
            raise CannotKeepField("This field is no longer there.")
        field.name = _checked_name(session, name, field_id)
        if "choice" in field.kind:
            wanted = _checked_choices(field.kind, choices)
            for lost in set(field.choices) - set(wanted):
                if _holders(session, field_id, lost):
                    raise CannotKeepField(f"“{lost}” is what some customers have. Change it for them first.")
            field.choices = wanted
        application.note(session, by, "changed a field", field=field.name)


def _holders(session: Session, field_id: int, choice: str) -> bool:
    values = session.scalars(
        select(FieldValue.value).where(FieldValue.field_id == field_id, FieldValue.until.is_(None)).distinct()
    )
    return any(choice in (value if isinstance(value, list) else [value]) for value in values)


def delete_field(application: Application, field_id: int, by: str) -> None:
    """Only a field that nothing uses can go, and its values with it.

    Raises ``CannotKeepField`` and ``InUse``.
    """
    with application.database.transaction() as session:
        field = session.get(CustomField, field_id)
        if field is None:
            raise CannotKeepField("This field is no longer there.")
        refuse_if_used(session, Kind.CUSTOM_FIELD, field_id, f"The field “{field.name}”")
        application.note(session, by, "deleted a field", field=field.name)
        session.delete(field)


def _checked_name(session: Session, name: str, own: int | None) -> str:
    name = " ".join(name.split())
    if not 1 <= len(name) <= 60:
        raise CannotKeepField("Give the field a name of at most 60 characters.")
    taken = {plain_heading(heading) for heading in HEADINGS["customers"]}
    taken |= {known for target in CUSTOMERS for known in target.names}
    if plain_heading(name) in taken:
        raise CannotKeepField(f"“{name}” is what every customer has already. Choose another name.")
    other = session.scalar(select(CustomField.id).where(func.lower(CustomField.name) == name.lower()))
    if other is not None and other != own:
        raise CannotKeepField(f"There is a field “{name}” already.")
    return name


def _checked_choices(kind: str, choices: Sequence[str]) -> list[str]:
    if "choice" not in kind:
        return []
    kept = list(dict.fromkeys(choice for choice in choices if choice))
    if not kept:
        raise CannotKeepField("Write the choices, one on each line.")
    if any(";" in one or len(one) > 80 for one in kept) or len(kept) > 200:
        raise CannotKeepField("At most 200 choices of at most 80 characters, without semicolons.")
    return kept


def by_name(application: Application) -> list[CustomField]:
    """The shop's own fields by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(CustomField).order_by(CustomField.name)))
