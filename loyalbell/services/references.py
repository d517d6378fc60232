"""What uses what, in words and with its address; and the refusal to delete what is used."""

from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.references import Kind
from loyalbell.services.application import Application
from loyalbell.storage import references
from loyalbell.storage.schema import (
    Campaign,
    Letterhead,
    Message,
    Offer,
    SavedBlock,
    SavedView,
    Segment,
    Sequence,
)

NAMED: dict[str, Any] = {
    "campaign": Campaign,
    "letterhead": Letterhead,
    "message": Message,
    "offer": Offer,
    "saved block": SavedBlock,
    "saved view": SavedView,
    "segment": Segment,
    "sequence": Sequence,
}


@dataclass(frozen=True)
class Use:
    """Something that uses another thing: what it is, its number, and what it is called."""

    kind: str
    number: int
    name: str

    def __str__(self) -> str:
        return f"the {self.kind} “{self.name}”"


class InUse(Exception):
    """Why something cannot be deleted: ``uses`` lean on it. The text is for whoever wanted to delete it."""

    def __init__(self, called: str, uses: list[Use]) -> None:
        super().__init__(f"{called} is in use, so it stays. Take it out of {say_uses(uses)} first.")
        self.called, self.uses = called, uses


def say_uses(uses: list[Use], most: int = 5) -> str:
    """``the campaign “May” and the sequence “Win-back”``."""
    words = [str(use) for use in uses[:most]]
    if len(uses) > most:
        words.append(f"{len(uses) - most} more")
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def uses_of(session: Session, kind: Kind, key: int | str) -> list[Use]:
    """Everything that leans on it, by kind and name."""
    found: list[Use] = []
    by_kind: dict[str, list[int]] = {}
    for user_kind, number in references.users_of(session, kind, key):
        by_kind.setdefault(user_kind, []).append(number)
    for user_kind, numbers in by_kind.items():
        table = NAMED[user_kind]
        rows = session.execute(select(table.id, table.name).where(table.id.in_(numbers)).order_by(table.name))
        found += [Use(user_kind, number, name) for number, name in rows]
    return found


def uses_by_key(session: Session, kind: Kind) -> dict[str, list[Use]]:
    """Of every thing of a kind what leans on it, in one go."""
    found: dict[str, list[Use]] = {}
    users = references.all_users_of(session, kind)
    names: dict[tuple[str, int], str] = {}
    for user_kind in {user for _, user, _ in users}:
        table = NAMED[user_kind]
        numbers = {number for _, user, number in users if user == user_kind}
        rows = session.execute(select(table.id, table.name).where(table.id.in_(numbers)))
        names |= {(user_kind, number): name for number, name in rows}
    for key, user_kind, number in users:
        if (user_kind, number) in names:
            found.setdefault(key, []).append(Use(user_kind, number, names[user_kind, number]))
    return {key: sorted(uses, key=lambda use: (use.kind, use.name)) for key, uses in found.items()}


def refuse_if_used(session: Session, kind: Kind, key: int | str, called: str) -> None:
    """Raises ``InUse`` while anything leans on it; call it in the transaction that deletes."""
    uses = uses_of(session, kind, key)
    if uses:
        raise InUse(called, uses)


def used_in(application: Application, kind: Kind, key: int | str) -> list[Use]:
    """``uses_of``, asked apart from any transaction."""
    with application.database.reading() as session:
        return uses_of(session, kind, key)
