"""People who stand in the book twice: finding them, making them one, and parting them again."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.duplicates import Pair, Record, pairs
from loyalbell.services.application import Application, Progress
from loyalbell.services.customers.commands import LABELS, MARKS
from loyalbell.storage import change_log
from loyalbell.storage.person_merge import Steps, merge
from loyalbell.storage.schema import ExternalId, Merge, NotTheSame, Person
from loyalbell.storage.webhook_events import announce

STRICTNESS = ("never asked", "agreed", "waiting", "refused")
CHOSEN = {**LABELS, "birthday": "Birthday", **MARKS}
BIRTHDAY = ("birthday_year", "birthday_month", "birthday_day")
TOGETHER = {"birthday": BIRTHDAY, "email": ("email", "email_given")}


class CannotMerge(Exception):
    """Why two records cannot be made one, or parted again, in words."""


A_MOMENT = 0.7
"""Seconds that a page waits for the pairs of a changed book before it shows those of before."""


@dataclass(frozen=True)
class Candidates:
    """``fresh``: of the book as it is now. Otherwise they are those of before, or none yet, while the book is
    looked through.
    """

    pairs: list[Pair]
    fresh: bool


def candidates(application: Application, wait: bool | float = A_MOMENT) -> Candidates:
    """Pairs who may be one person, the likeliest first, without those found to be two."""
    with application.database.reading() as session:
        version = change_log.newest(session)
        dismissed = set(session.execute(select(NotTheSame.low_id, NotTheSame.high_id)).all())

    nobody: list[Pair] = []
    found = application.background.get(
        "duplicates",
        version,
        lambda: application.work_out(_look, beforehand=wait is not True),
        nobody,
        most=2,
        wait=wait,
    )
    shown = _still_there(application) if found is None else found
    return Candidates([pair for pair in shown if (pair.low, pair.high) not in dismissed], found is not None)


def _look(application: Application, progress: Progress) -> list[Pair]:
    with application.database.reading() as session:
        return pairs(_records(session))


def _still_there(application: Application) -> list[Pair]:
    """The pairs of before, without people who were merged or erased since."""
    before: list[Pair] = application.background.newest("duplicates") or []
    with application.database.reading() as session:
        here = set(session.scalars(select(Person.id))) if before else set()
    return [pair for pair in before if pair.low in here and pair.high in here]


def reasons_of(application: Application, one: int, other: int) -> list[str]:
    """Why two people may be one; none where nothing speaks for it."""
    with application.database.reading() as session:
        found = pairs(_records(session, (one, other)))
    return found[0].reasons if found else []


def _records(session: Session, only: Sequence[int] = ()) -> list[Record]:
    ids: dict[int, list[str]] = {}
    known = select(ExternalId.person_id, ExternalId.value)
    for person_id, value in session.execute(known.where(ExternalId.person_id.in_(only)) if only else known):
        ids.setdefault(person_id, []).append(value)
    query = select(
        Person.id,
        Person.first_name,
        Person.last_name,
        Person.email,
        Person.phone,
        Person.street,
        Person.postal_code,
        Person.birthday_year,
        Person.birthday_month,
        Person.birthday_day,
    )
    rows = session.execute(query.where(Person.id.in_(only)) if only else query)
    return [
        Record(
            at,
            f"{first or ''} {last or ''}",
            email,
            phone,
            street,
            code,
            tuple(ids.get(at, ())),
            # without its year a birthday is shared by too many
            tuple(born) if all(born) else None,
        )
        for at, first, last, email, phone, street, code, *born in rows
    ]


def not_the_same(application: Application, one: int, other: int, by: str) -> None:
    """Keeps a pair from being shown again."""
    with application.database.transaction() as session:
        low, high = sorted((one, other))
        if session.get(Person, low) is None or session.get(Person, high) is None:
            raise CannotMerge("One of the two is no longer on file.")
        known = select(NotTheSame.id).where(NotTheSame.low_id == low, NotTheSame.high_id == high)
        if session.scalar(known) is None:
            session.add(NotTheSame(low_id=low, high_id=high, at=application.clock.now(), by=by))


def preset(kept: Person, gone: Person) -> dict[str, str]:
    """Which record each fact is taken from to begin with: the kept one's, unless only the other knows it."""
    found = {}
    for name in CHOSEN:
        column = TOGETHER.get(name, (name,))[-1] if name == "birthday" else name
        has_own = getattr(kept, column) is not None
        found[name] = "kept" if has_own or getattr(gone, column) is None else "gone"
    return found


def make_one(application: Application, kept_id: int, gone_id: int, choice: Mapping[str, str], by: str) -> int:
    """Makes the two one; ``choice`` says for each fact whether the kept or the gone record's holds.

    A refusal of either holds. Returns the id of the merge. Raises ``CannotMerge``.
    """
    if kept_id == gone_id:
        raise CannotMerge("Choose two different customers.")
    now = application.clock.now()
    with application.database.transaction() as session:
        people = {
            one.id: one for one in session.scalars(select(Person).where(Person.id.in_((kept_id, gone_id))))
        }
        if len(people) < 2:
            raise CannotMerge("One of the two is no longer on file.")
        facts = _facts(people[kept_id], people[gone_id], choice)
        session.expunge_all()
        steps = merge(session, kept_id, gone_id, facts, int(now.timestamp()), _stricter(by))
        made = Merge(kept_id=kept_id, gone_id=gone_id, at=now, by=by, snapshot={"steps": steps})
        session.add(made)
        session.flush()
        application.note(session, by, "merged two customers", kept=kept_id, gone=gone_id)
        announce(session, "customer.merged", now, kept=kept_id, gone=gone_id)
        return made.id


def _facts(kept: Person, gone: Person, choice: Mapping[str, str]) -> dict[str, Any]:
    facts: dict[str, Any] = {}
    for name in CHOSEN:
        if choice.get(name) == "gone":
            for column in TOGETHER.get(name, (name,)):
                value = getattr(gone, column)
                facts[column] = int(value.timestamp()) if column.endswith("_at") and value else value
    return facts


def _stricter(by: str) -> Any:
    def word(channel: str, one: str | None, other: str | None) -> dict[str, Any]:
        state = max(one or "never asked", other or "never asked", key=STRICTNESS.index)
        return {} if state == "never asked" else {"state": state, "source": "two records made one", "by": by}

    return word


def part_again(application: Application, merge_id: int, by: str) -> int:
    """Undoes a merge; what has come since stays with the kept record. Returns the other's id. Raises
    ``CannotMerge``.
    """
    with application.database.transaction() as session:
        done = session.get(Merge, merge_id)
        if done is None or done.undone_at is not None:
            raise CannotMerge("That merge has been undone already.")
        later = select(Merge.id).where(
            Merge.kept_id == done.kept_id, Merge.id > merge_id, Merge.undone_at.is_(None)
        )
        if session.scalar(later.limit(1)) is not None:
            raise CannotMerge("Another record was merged into this one later. Undo that merge first.")
        if session.get(Person, done.gone_id) is not None:
            raise CannotMerge(
                "The number of the other record belongs to somebody else by now. This cannot be undone."
            )
        kept_id, gone_id = done.kept_id, done.gone_id
        Steps(session, done.snapshot["steps"]).undo()
        done.undone_at = application.clock.now()
        session.flush()
        application.note(session, by, "undid a merge", kept=kept_id, parted=gone_id)
        return gone_id
