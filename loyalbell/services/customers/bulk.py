"""Acts on many customers at once: tag, untag, suppress, erase."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.services.application import Application
from loyalbell.services.customers.commands import tag_name
from loyalbell.services.customers.erasure import erase
from loyalbell.services.customers.person_edit import NotKept
from loyalbell.services.customers.reachability import suppress_in
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.schema import Person, Tag

__all__ = ["NotKept", "erase_all", "suppress_all", "tag_all", "untag_all"]


def tag_all(application: Application, person_ids: Sequence[int], name: str, by: str) -> int:
    """Returns how many did not carry the tag before. Raises ``NotKept``."""
    try:
        tag = tag_name(name)
    except ValueError as problem:
        raise NotKept(f"{str(problem)[:1].upper()}{str(problem)[1:]}.") from problem
    with application.database.transaction() as session:
        tag_id = Names(session).id_of("tag", tag)
        facts = PersonFacts(session, int(application.clock.now().timestamp()))
        changed = facts.add_tag(_on_file(session, person_ids), tag_id or 0)
        application.note(session, by, "tagged customers", tag=tag, people=len(changed))
        return len(changed)


def untag_all(application: Application, person_ids: Sequence[int], name: str, by: str) -> int:
    """Returns how many carried the tag. Raises ``NotKept`` for a tag that is not known."""
    with application.database.transaction() as session:
        tag = session.scalar(select(Tag).where(Tag.name == " ".join(name.split())))
        if tag is None:
            raise NotKept(f"There is no tag “{name}”.")
        changed = PersonFacts(session, int(application.clock.now().timestamp())).remove_tag(
            person_ids, tag.id
        )
        application.note(session, by, "untagged customers", tag=tag.name, people=len(changed))
        return len(changed)


def suppress_all(
    application: Application, person_ids: Sequence[int], channels: Sequence[str], by: str
) -> int:
    """Returns how many were not suppressed on all of the channels before."""
    with application.database.transaction() as session:
        changed = 0
        for start in range(0, len(person_ids), 500):
            people = session.scalars(select(Person).where(Person.id.in_(person_ids[start : start + 500])))
            for person in people:
                now = application.clock.now()
                changed += sum(suppress_in(session, person, channel, now, by) for channel in channels) > 0
            session.flush()
        application.note(session, by, "suppressed customers", people=changed, channels=", ".join(channels))
        return changed


def erase_all(application: Application, person_ids: Sequence[int], typed: str, by: str) -> int:
    """``typed`` must be the number of people, so that nobody erases more than they think.

    Raises ``NotKept``.
    """
    if typed.replace(",", "").strip() != str(len(person_ids)):
        raise NotKept(f"Type {len(person_ids)} to say that you mean to erase so many. Nothing was erased.")
    return erase(application, person_ids, by)


def _on_file(session: Session, person_ids: Sequence[int]) -> list[int]:
    found: list[int] = []
    for start in range(0, len(person_ids), 500):
        some = person_ids[start : start + 500]
        found += session.scalars(select(Person.id).where(Person.id.in_(some)))
    return found
